import type { Schemas } from '../api/client';
import type { Share } from '../looks/SharesBar';
import { count } from '../words/words';

/** Reads waves as a person writes them, `5%, 25%, 100%`; undefined if they are none. */
export function readWaves(text: string): number[] | undefined {
  const parts = text.split(',').map((part) => /^\s*(\d{1,3})\s*%?\s*$/.exec(part)?.[1]);
  const percents = parts.map(Number);
  const rises = percents.every((percent, at) => percent > (percents[at - 1] ?? 0));
  return parts.every(Boolean) && rises && percents.at(-1) === 100 ? percents : undefined;
}

/** The spans for which waves settle, in seconds. */
export const SETTLES = [
  [0, 'not at all'],
  [600, '10 minutes'],
  [1_800, '30 minutes'],
  [7_200, '2 hours'],
  [86_400, '1 day'],
] as const;

/** How a rollout goes. */
export function planWords({ settle_secs, bad_above_percent, within }: Schemas['RolloutPlan']): string {
  const settles = SETTLES.find(([secs]) => secs === settle_secs)?.[1] ?? count(Math.round((settle_secs ?? 0) / 60), 'minute');
  return `Each wave settles for ${settles}, once 90 % of its heard nodes have finished a full run. It halts when more than ${bad_above_percent} % of the nodes that received a wave are bad, at least 3, or all of a smaller wave.${within ? ` The percentages count within each ${within}.` : ''}`;
}

/** The command that begins such a rollout. */
export function asCommand(no: number, { waves, settle_secs, bad_above_percent, within }: Schemas['RolloutPlan']): string {
  const label = within ? ` --within ${within}` : '';
  const settle = settle_secs ? ` --settle ${settle_secs % 60 ? `${settle_secs}s` : `${settle_secs / 60}m`}` : '';
  return `constans rollout begin C${no} --waves ${waves.map((percent) => `${percent}%`).join(',')}${settle} --halt 'bad > ${bad_above_percent}%'${label}`;
}

/** How the nodes of a wave divide, in the order in which they are drawn. */
export function sharesOf({ figures, handed_out_at }: Schemas['RolloutWave']): Share[] {
  const { nodes, silent, received, finished, untried, failed, unusable, not_heard } = figures;
  if (!handed_out_at) return [{ nodes, words: 'to come', colour: 'hairline' }];
  return [
    { nodes: finished - failed - untried, words: 'finished a full run', colour: 'status.in_line' },
    { nodes: untried, words: 'untried: they observe', colour: 'status.rollout_waiting' },
    { nodes: failed, words: 'failed', colour: 'status.failed' },
    { nodes: unusable, words: 'cannot be resolved', colour: 'status.state_unusable' },
    { nodes: not_heard, words: 'not heard since', colour: 'status.drift_found' },
    { nodes: received - finished - unusable - not_heard, words: 'received it', colour: 'primary.main' },
    { nodes: nodes - received - silent, words: 'expected to check in', colour: 'hairline' },
    { nodes: silent, words: 'silent, get it on return', colour: 'status.silent' },
  ];
}

/** How far a rollout is. */
export function rolloutWords({ status, reached, plan }: Schemas['RolloutSummary']): string {
  const at = `wave ${reached} of ${plan.waves.length}`;
  if (status === 'done') return `done, ${count(plan.waves.length, 'wave')}`;
  return status === 'turned_back' ? `turned back after ${at}` : status === 'halted' ? `halted at ${at}` : at;
}
