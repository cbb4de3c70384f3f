import type { Schemas } from '../api/client';
import { ago, clockOff, exact, span } from './time';
import { count, words } from './words';

type Node = Schemas['NodeSummary'];

/** The status of the last full run, always with its age and the release it speaks of. */
export function statusWords(node: Node, now: number): string {
  if (!hasDesiredState(node)) return 'no desired state yet';
  if (!node.run_status || !node.run_began) return 'no full run yet';
  return `${words(node.run_status)}, ${ago(node.run_began, now)}; ${releaseWords(node, now)}`;
}

/** The releases of the last full run, for lists that show the status in a column of its own. */
export function releaseColumn(node: Node, now: number): string {
  const hasRun = hasDesiredState(node) && node.run_status && node.run_began;
  return hasRun ? releaseWords(node, now).replace(/^has /, '') : statusWords(node, now);
}

function hasDesiredState(node: Node): boolean {
  return (node.releases ?? []).length > 0 || node.has !== node.wanted;
}

/** The releases of the last full run, and the desired ones if they differ. Releases of which something waits are only known. */
function releaseWords(node: Node, now: number): string {
  const has = (node.has_releases ?? []).join(' ') || 'no release';
  const known = node.run_status === 'rollout_waiting' ? `knows ${has}, not all of it applied${node.mode === 'observe' ? ': mode is observe' : ''}` : `has ${has}`;
  if (node.has === node.wanted) return known;
  const since = node.wanted_since ? ` since ${span((now - Date.parse(node.wanted_since)) / 1_000)}` : '';
  const desired = (node.releases ?? []).join(' ') || 'none';
  return desired === has ? `${known}; other values desired${since}` : `${known}; desired ${desired}${since}`;
}

/** When the node contacted the server last, and when it will next. */
export function contactWords(node: Node, now: number): string {
  if (node.revoked_at) return `revoked ${ago(node.revoked_at, now)}`;
  if (!node.last_heard || !node.promised) return 'no contact yet';
  const next = (Date.parse(node.promised) - now) / 1_000;
  return `last contact ${ago(node.last_heard, now)}, ${next >= 0 ? `next in ${span(next)}` : `next was due ${span(-next)} ago`}`;
}

/** A problem in words, and what to do about it. */
export function problemWords(problem: Schemas['NodeProblem'], node: Node, now: number): { message: string; remedy: string } {
  const since = (at: string | null | undefined) => (at ? ` ${ago(at, now)}` : '');
  switch (problem) {
    case 'state_unusable':
      return { message: `The desired state cannot be resolved; the node keeps its last usable one: ${node.unusable ?? ''}`, remedy: 'fix the group, stage or kit named here' };
    case 'duplicate_identity':
      return { message: `Two machines use the identity of this node, first seen${since(node.duplicate_identity_since)}; secrets are withheld`, remedy: `constans node resolve-duplicate ${node.name}` };
    case 'certificate_ends':
      return { message: `The certificate ends on ${node.certificate_ends ? exact(node.certificate_ends) : '?'} and was not renewed`, remedy: 'constans-agent diagnose' };
    case 'runs_overdue':
      return { message: `The node checks in but does not run; its last full run began${since(node.run_began)}`, remedy: 'constans-agent daemon --once' };
    case 'memory_lost':
      return { message: `The agent lost its memory${since(node.memory_lost_at)}; causes stay as last known`, remedy: 'ends with a full run that leaves nothing open' };
    case 'clock_off':
      return { message: `The clock is ${clockOff(node.clock_off_secs ?? 0)}`, remedy: 'set the clock: drift windows use the time of the node' };
  }
}

/** The node's state in one sentence. */
export function sentence(node: Node, now: number): string {
  const drift = node.open_episodes ? `; ${count(node.open_episodes, 'clause')} drifted and not corrected` : '';
  return `${statusWords(node, now)}${drift}. Mode ${node.mode ?? 'observe'}; ${contactWords(node, now)}.`;
}
