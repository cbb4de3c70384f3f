import type { Schemas } from '../api/client';
import { clock, exact, span } from '../words/time';
import { count } from '../words/words';

type Sweep = Schemas['Sweep'];

/** Where a sweep is shown. */
export function sweepAddress(no: number): string {
  return `/activity/S${no}`;
}

/** `Enforce all clauses on 41 nodes`. */
export function sweepTitle({ what, counts }: Sweep): string {
  return `${what} on ${count(counts.nodes, 'node')}`;
}

/** `32 of 41 done`, and how it is. */
export function progressWords({ status, counts }: Sweep): string {
  const words = { running: 'running', done: 'done', over: 'over', stopped: 'stopped' }[status];
  return `${words}, ${counts.done} of ${counts.nodes}`;
}

/** How long it took so far, and until when who is not heard may begin it. */
export function timeWords({ status, asked_at, begins_at, ends_at, last_done_at, expected_end, now, counts }: Sweep): string {
  const secs = (until: string) => (Date.parse(until) - Date.parse(asked_at)) / 1_000;
  if (status !== 'running') return last_done_at ? `the last report after ${span(secs(last_done_at))}` : 'nobody reported';
  if (begins_at > now) return `begins at ${exact(begins_at)}`;
  const waits = counts.pending + counts.offered > 0 ? `, ends at ${clock(ends_at)} for those not heard` : '';
  return `${span(secs(now))} so far${expected_end ? aboutLeft(expected_end, now) : ''}${waits}`;
}

/** How long the runs under way still take, by how long the last ones of their nodes took. */
function aboutLeft(expectedEnd: string, now: string): string {
  const left = (Date.parse(expectedEnd) - Date.parse(now)) / 1_000;
  return left >= 1 ? `, about ${span(left)} more, as the last runs took` : ', longer than the last runs took';
}

/** What is only waited for: nodes that are silent. */
export function isWaitedFor({ status, begins_at, now, counts }: Sweep): boolean {
  return status === 'running' && begins_at <= now && counts.offered + counts.begun + counts.pending > counts.silent;
}

/** The client's command that would begin the same sweep. */
export function asCommand({ order, which, nodes }: { order: Schemas['SweepOrder']; which?: string; nodes?: string[] }): string {
  const quoted = (text: string) => `'${text.replaceAll("'", "'\\''")}'`;
  const part = order.part ?? {};
  const words = [
    'constans sweep',
    order.mode,
    ...(which ? [quoted(which)] : []),
    ...(nodes ?? []).map((node) => `--node ${node}`),
    ...(part.baseline ? [`--baseline ${part.baseline}`] : []),
    ...(part.topics ?? []).map((topic) => `--topic ${topic}`),
    ...(part.clauses ?? []).map((clause) => `--clause ${quoted(clause)}`),
    ...(order.read_all ? ['--read-all'] : []),
    ...(order.now ? ['--now'] : []),
    ...(order.although_observing ? ['--although-observing'] : []),
    ...(order.correct_once ? ['--correct-once'] : []),
    '--because REASON',
  ];
  return words.join(' ');
}

/** Why something is left, by its word. */
export function leftWords(why: string): string {
  const words: Record<string, string> = {
    on_drift: 'on_drift says report',
    on_rollout: 'on_rollout says wait',
    grace: 'grace',
    window: 'change window closed',
    freeze: 'frozen',
    only_a_person: 'needs a person',
  };
  return words[why] ?? why.replaceAll('_', ' ');
}
