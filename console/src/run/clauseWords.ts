import type { Schemas } from '../api/client';
import { exact, span } from '../words/time';
import { outcomeWords } from '../words/words';

type Result = Schemas['ClauseResult'];

const FAILED_AT: Record<string, string> = { inspect: 'inspecting', correct: 'correcting', verify: 'verifying', react: 'reacting' };

function leaveWords(leave: Schemas['Leave']): string {
  switch (leave.reason) {
    case 'freeze':
      return `frozen by F${leave.no} until ${exact(leave.until)} (${leave.because})`;
    case 'observing':
      return 'mode is observe';
    case 'on_drift':
      return `the ${leave.from} says on_drift = "report"`;
    case 'on_rollout':
      return `the ${leave.from} says on_rollout = "wait"`;
    case 'grace':
      return `the grace lasts until ${exact(leave.until)}; then it is corrected`;
    case 'window':
      return `outside the change window${leave.is_of_assignment ? ' of the assignment' : ''}, which opens at ${exact(leave.opens)}; then it is corrected`;
    case 'cut_the_way':
      return `applying it cut the connection to the server, so it was reverted at ${exact(leave.at)}; it is retried when the desired state changes`;
    case 'not_alone':
      return `the clause says only_alone = true, and with it ${leave.packages.map(packageWords).join(', ')}`;
    case 'only_a_person':
      return 'needs a person';
  }
}

/** What happens to a package, as "kiosk-tools 1.0 is removed". */
export function packageWords({ package: name, before, after }: Schemas['PackageChange']): string {
  if (!before) return `${name} ${after ?? ''} is installed`;
  return after ? `${name} ${before} becomes ${after}` : `${name} ${before} is removed`;
}

/** A change that a running service may not have loaded. */
export function missedWords({ cause, changed_at, running_since }: Schemas['MissedReaction']): string {
  return `${cause} was changed at ${exact(changed_at)}, but no reaction of this service to it was declared; the service has run since ${exact(running_since)}: restart it by hand if it has to load the change`;
}

function blockedWords({ need, first, outcome }: Schemas['Blocker']): string {
  const why = outcome === 'failed' ? 'failed' : outcome === 'unsupported' ? 'is unsupported' : 'is not in line';
  return need === first ? `it needs ${need}, which ${why}` : `it needs ${need}, which is blocked by ${first}, which ${why}`;
}

/** The outcome of a clause, or what an enforcing run would do, in a few words. */
export function headline(clause: Result): string {
  const due = clause.would ?? clause.decision;
  if (clause.outcome === 'in_line' && clause.changed_by) return `in line, changed by ${clause.changed_by} in this run`;
  if (clause.outcome === 'in_line') return clause.already_there ? 'in line, and already was at the first look' : 'in line';
  if (clause.outcome === 'failed') return `failed while ${FAILED_AT[clause.failure?.at ?? ''] ?? 'running'}`;
  if (clause.outcome === 'unsupported') return `not examined: ${clause.unsupported ?? 'no backend on this node'}`;
  if (due.due === 'blocked') return `blocked: ${blockedWords(due.by)}`;
  if (clause.outcome === 'out_of_line' && due.due === 'correct') return 'would be corrected';
  if (clause.outcome === 'out_of_line' && due.due === 'leave') return `not corrected: ${leaveWords(due.why)}`;
  return outcomeWords(clause.outcome);
}

/** Why a clause was different, in a sentence. */
export function causeWords(clause: Result): string | undefined {
  const window = clause.drift_window;
  const drift = window && `the node changed between ${exact(window.from)} and ${exact(window.to)} (within ${span(Math.max(1, (Date.parse(window.to) - Date.parse(window.from)) / 1_000))})`;
  const newness = clause.newness;
  const wanted =
    newness?.newness === 'new_here'
      ? 'desired here for the first time'
      : newness?.newness === 'here_before'
        ? `desired here again, as until ${exact(newness.until)}`
        : 'the desired state changed';
  switch (clause.cause) {
    case 'drift':
      return `Drift: ${drift}`;
    case 'rollout':
      return clause.also_drifted ? `Rollout: ${wanted}; and drift: ${drift}` : `Rollout: ${wanted}`;
    case 'target_moved':
      return 'Target changed: the node is unchanged, but no longer matches the desired state';
    default:
      return undefined;
  }
}
