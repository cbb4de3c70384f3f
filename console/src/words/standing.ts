import type { Schemas } from '../api/client';
import { ago, clockOff, exact, span } from './time';
import { count, words } from './words';

/** A status never stands without the release and the age it speaks of. */
export function standingWords(node: Schemas['NodeSummary'], now: number): string {
  const standing = node.standing ?? {};
  if ((standing.releases ?? []).length === 0 && standing.has === standing.wanted) return 'nothing is wanted of it yet';
  if (!standing.status || !standing.run_began) return 'no full run yet';
  return `${words(standing.status)}, ${ago(standing.run_began, now)}; ${hasWords(standing, now)}`;
}

/** What a node has, and what is wanted if that is something else, beside the sign that says how its run went. */
export function releaseWords(node: Schemas['NodeSummary'], now: number): string {
  const standing = node.standing ?? {};
  const isRun = standing.status && standing.run_began && (standing.releases ?? []).length > 0;
  return isRun ? hasWords(standing, now).replace(/^has /, '') : standingWords(node, now);
}

/** What a node has, and what is wanted if that is something else. */
export function hasWords(standing: Schemas['NodeStanding'], now: number): string {
  const has = (standing.has_releases ?? []).join(' ') || 'no release';
  if (standing.has === standing.wanted) return `has ${has}`;
  const since = standing.wanted_since ? ` since ${span((now - Date.parse(standing.wanted_since)) / 1_000)}` : '';
  const wanted = (standing.releases ?? []).join(' ') || 'nothing';
  return wanted === has ? `has ${has}, wanted with other values${since}` : `has ${has}, wanted ${wanted}${since}`;
}

/** When a node was heard, and when it comes next. */
export function heardWords(node: Schemas['NodeSummary'], now: number): string {
  if (node.revoked_at) return `revoked ${ago(node.revoked_at, now)}`;
  if (!node.last_heard || !node.promised) return 'never heard';
  const next = (Date.parse(node.promised) - now) / 1_000;
  return `heard ${ago(node.last_heard, now)}, ${next >= 0 ? `next check-in in ${span(next)}` : `due ${span(-next)} ago`}`;
}

/** A trouble in words, and what to do about it. */
export function troubleWords(trouble: Schemas['Trouble'], node: Schemas['NodeSummary'], now: number): { said: string; remedy: string } {
  const standing = node.standing ?? {};
  const since = (at: string | null | undefined) => (at ? ` ${ago(at, now)}` : '');
  switch (trouble) {
    case 'state_unusable':
      return { said: `Its state cannot be resolved, and it keeps its last good one: ${standing.unusable ?? ''}`, remedy: 'mend the group, stage or kit that it names' };
    case 'double':
      return { said: `Two machines were seen as this node, first${since(standing.double_since)}; secrets are withheld`, remedy: `constans node settle ${node.name}` };
    case 'certificate_ends':
      return { said: `Its certificate ends on ${node.certificate_ends ? exact(node.certificate_ends) : '?'} and was not renewed`, remedy: 'constans-agent diagnose' };
    case 'runs_overdue':
      return { said: `It is heard and does not run; its last full run began${since(standing.run_began)}`, remedy: 'constans-agent daemon --once' };
    case 'memory_lost':
      return { said: `What its agent remembered was lost${since(standing.memory_lost_at)}; causes are kept as last known`, remedy: 'it ends with a full run that leaves nothing open' };
    case 'clock_off':
      return { said: `Its clock is ${clockOff(node.clock_off_secs ?? 0)}`, remedy: "set it: drift windows are told by the node's clock" };
  }
}

/** The node's state in one sentence. */
export function sentence(node: Schemas['NodeSummary'], now: number): string {
  const mode = node.standing?.mode === 'enforce' ? 'enforces' : 'only observes';
  const drift = node.open_episodes ? `; ${count(node.open_episodes, 'clause')} drifted and ${node.open_episodes === 1 ? 'stays' : 'stay'} so` : '';
  return `${standingWords(node, now)}${drift}. Its agent ${mode}; ${heardWords(node, now)}.`;
}
