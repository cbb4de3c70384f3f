import type { Schemas } from '../api/client';

/** One tick, or the bin of one status, in parts of the ribbon's width. */
export interface Mark {
  status: Schemas['NodeStatus'];
  /** The node; none for a bin. */
  name?: string;
  late: boolean;
  nodes: number;
  left: number;
  width: number;
}

/** The least width of a status that has any node, in pixels, so that few nodes stay visible among many. */
export const LEAST_PX = 6;

/** Returns where each tick of the ribbon stands; without ticks each status is one bin. */
export function ribbonMarks(ticks: Schemas['Tick'][], statuses: Schemas['StatusCount'][], widthPx: number): Mark[] {
  const total = statuses.reduce((sum, { nodes }) => sum + nodes, 0);
  if (total === 0) return [];
  const least = Math.min(LEAST_PX, widthPx / statuses.length);
  const shares = statuses.map(({ nodes }) => (nodes / total) * widthPx);
  const lacking = shares.reduce((sum, share) => sum + Math.max(0, least - share), 0);
  const spare = shares.reduce((sum, share) => sum + Math.max(0, share - least), 0);
  const marks: Mark[] = [];
  let left = 0;
  statuses.forEach(({ status, nodes }, at) => {
    const share = shares[at] ?? 0;
    const width = share < least ? least : share - (spare > 0 ? ((share - least) / spare) * lacking : 0);
    const own = ticks.filter((tick) => tick.status === status);
    if (own.length === 0) marks.push({ status, late: false, nodes, left, width });
    own.forEach((tick, number) => {
      const each = width / own.length;
      marks.push({ status, name: tick.name, late: tick.late, nodes: 1, left: left + number * each, width: each });
    });
    left += width;
  });
  return marks;
}

/** How a status's ticks stand: how high, leaning or not, dotted or not. Words carry the meaning, hue and shape repeat it. */
export function tickShape(status: Schemas['NodeStatus']): { height: number; leans: boolean; isDotted: boolean } {
  const leans = status === 'drift_found' || status === 'unmet';
  const isDotted = status === 'silent' || status === 'rollout_waiting';
  const height =
    { failed: 46, state_unusable: 46, drift_found: 40, unmet: 36, silent: 18, never_reported: 12, revoked: 10, retired: 10, not_all_seen: 24 }[
      status as string
    ] ?? 30;
  return { height, leans, isDotted };
}
