import type { Schemas } from '../api/client';
import { clock } from '../words/time';
import { count } from '../words/words';

type Wake = Schemas['Wake'];
type WokenNode = Schemas['WokenNode'];

/** A span of milliseconds. */
export function millis(ms: number): string {
  return ms < 1_000 ? `${ms} ms` : `${(ms / 1_000).toFixed(1)} s`;
}

/** How many nodes answered, and how fast. */
export function answeredWords({ nodes, answered, median_ms, slowest_ms }: Wake): string {
  const of = `${answered.toLocaleString('en')} of ${count(nodes, 'node')} answered`;
  if (slowest_ms == null) return of;
  return answered > 1 && median_ms != null
    ? `${of}, half of them within ${millis(median_ms)}, the last after ${millis(slowest_ms)}`
    : `${of} after ${millis(slowest_ms)}`;
}

/** How many have what is desired of them. */
export function upToDateWords({ nodes, up_to_date }: Wake): string {
  return up_to_date === nodes
    ? 'All have what is desired of them.'
    : `${up_to_date.toLocaleString('en')} of ${nodes.toLocaleString('en')} have what is desired of them now.`;
}

/** What became of a node that was asked to check in. */
export function wokenWords({ woken, answered_ms, next_check_in }: WokenNode, now = Date.now()): string {
  if (answered_ms != null) return `answered after ${millis(answered_ms)}`;
  const next = nextWords(next_check_in, now);
  return woken === 'woken' ? `woken, no answer yet; ${next}` : `cannot be woken; ${next}`;
}

/** When a node checks in by itself. */
export function nextWords(next: string | null | undefined, now = Date.now()): string {
  if (!next) return 'has never checked in';
  return Date.parse(next) < now ? `was due at ${clock(next)}` : `checks in by itself at ${clock(next)}`;
}

/** Those who did not answer first, then the slowest. */
export function bySlowness(left: WokenNode, right: WokenNode): number {
  const after = (node: WokenNode) => node.answered_ms ?? Number.POSITIVE_INFINITY;
  return after(left) === after(right) ? left.name.localeCompare(right.name) : after(right) - after(left);
}
