import type { Schemas } from '../api/client';
import { exact, span } from '../words/time';
import { outcomeWords } from '../words/words';

type Result = Schemas['ClauseResult'];

function leaveWords(leave: Schemas['Leave']): string {
  switch (leave.reason) {
    case 'hold':
      return `a hold is in force until ${exact(leave.until)} (${leave.because})`;
    case 'observing':
      return 'this run only observed';
    case 'on_drift':
      return `the ${leave.from} says on_drift = "tell"`;
    case 'on_rollout':
      return `the ${leave.from} says on_rollout = "wait"`;
    case 'grace':
      return `its grace lasts until ${exact(leave.until)}, and then it is corrected`;
    case 'window':
      return `the change window opens at ${exact(leave.opens)}, and then it is corrected`;
    case 'cut_the_way':
      return `bringing it in cut this node's way to its server, and it was put back at ${exact(leave.at)}; it is tried again when something else is wanted`;
    case 'not_alone':
      return `the clause says only_alone = true, and with it ${leave.packages.map(packageWords).join(', ')}`;
    case 'only_a_person':
      return 'only a person can change this';
  }
}

/** What happens to a package, as "kiosk-tools 1.0 is removed". */
export function packageWords({ package: name, before, after }: Schemas['PackageChange']): string {
  if (!before) return `${name} ${after ?? ''} is installed`;
  return after ? `${name} ${before} becomes ${after}` : `${name} ${before} is removed`;
}

/** What a service is not known to have taken up. */
export function missedWords({ cause, changed_at, running_since }: Schemas['MissedReaction']): string {
  return `${cause} was changed at ${exact(changed_at)}, when nothing said that this service reacts to it, and the service runs as it is since ${exact(running_since)}: restart it by hand if it has to take that up`;
}

function blockedWords({ need, first, outcome }: Schemas['Blocker']): string {
  const why = outcome === 'failed' ? 'failed' : outcome === 'unsupported' ? 'could not be examined' : 'is not in line';
  return need === first ? `it needs ${need}, which ${why}` : `it needs ${need}, which waits for ${first}, which ${why}`;
}

/** What came or would come of a clause, in a few words. */
export function headline(clause: Result): string {
  const due = clause.would ?? clause.decision;
  if (clause.outcome === 'in_line' && clause.changed_by) return `in line, brought along by ${clause.changed_by} in this run`;
  if (clause.outcome === 'in_line') return clause.already_there ? 'in line, and was before Constans looked first' : 'in line';
  if (clause.outcome === 'failed') return `failed (${clause.failure?.at ?? 'run'})`;
  if (clause.outcome === 'unsupported') return `not examined: ${clause.unsupported ?? 'no means here'}`;
  if (due.due === 'blocked') return `blocked: ${blockedWords(due.by)}`;
  if (clause.outcome === 'out_of_line' && due.due === 'correct') return 'would be corrected';
  if (clause.outcome === 'out_of_line' && due.due === 'leave') return `left as it is: ${leaveWords(due.why)}`;
  return outcomeWords(clause.outcome);
}

/** Why a clause was different, in a sentence. */
export function causeWords(clause: Result): string | undefined {
  const window = clause.drift_window;
  const drift = window && `the node changed between ${exact(window.from)} and ${exact(window.to)} (within ${span(Math.max(1, (Date.parse(window.to) - Date.parse(window.from)) / 1_000))})`;
  const newness = clause.newness;
  const wanted =
    newness?.newness === 'new_here'
      ? 'wanted here for the first time'
      : newness?.newness === 'here_before'
        ? `wanted here again, as it was until ${exact(newness.until)}`
        : 'something else is wanted than before';
  switch (clause.cause) {
    case 'drift':
      return `Drift: ${drift}`;
    case 'rollout':
      return clause.also_drifted ? `Rollout: ${wanted}; and drift: ${drift}` : `Rollout: ${wanted}`;
    case 'target_moved':
      return 'Target moved: the node is as it was, and no longer fits what is wanted';
    default:
      return undefined;
  }
}
