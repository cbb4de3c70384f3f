import type { Schemas } from '../api/client';
import table from './words.json';

/** The name of a node's or run's status. */
export function statusWords(status: Schemas['NodeStatus'] | Schemas['Status']): string {
  return table.node_status[status];
}

/** The name of a problem of a node. */
export function problemWords(problem: Schemas['NodeProblem']): string {
  return table.node_problem[problem];
}

/** The outcome of a clause. */
export function outcomeWords(outcome: Schemas['Outcome']): string {
  return table.outcome[outcome];
}

/** How a clause is otherwise than in the run before. */
export function resultChange(change: Schemas['ResultChange']): string {
  return table.result_change[change];
}

/** What started a run. */
export function startedBy(by: Schemas['StartedBy']): string {
  return table.started_by[by];
}

/** Why a clause is not as desired; what is none of these, as it is. */
export function deviationCause(cause: string): string {
  return (table.deviation_cause as Record<string, string>)[cause] ?? cause;
}

/** Why a clause on a node counts otherwise than before. */
export function moveReason(reason: Schemas['MoveReason']): string {
  return table.move_reason[reason];
}

/** How a drift episode ended. */
export function closedAs(closed: Schemas['ClosedAs']): string {
  return table.closed_as[closed];
}

/** Why the difference of a text is not shown. */
export function refusalWords(refusal: Schemas['TextDiffRefusal']): string {
  return table.text_diff_refusal[refusal];
}

/** Where a parameter's value comes from. */
export function layerWords(layer: Schemas['Layer']): string {
  return table.layer[layer.layer].replaceAll('`', '').replace('{name}', 'name' in layer ? layer.name : '');
}

/** Why a machine that fits an admission rule waits for a person, in words that follow its name. */
export function waitsBecause(because: Schemas['WaitsBecause']): string {
  return table.waits_because[because];
}

/** How a rollout stands. */
export function rolloutStatus(status: Schemas['RolloutStatus']): string {
  return table.rollout_status[status];
}

/** How a node of a rollout is. */
export function rolloutNodeState(state: Schemas['RolloutNodeState']): string {
  return table.rollout_node_state[state];
}

/** A role in words: for the whole fleet, or for the nodes of one group. */
export function roleWords(role: string): string {
  const [held = '', group] = role.split('@');
  return group === undefined ? held : `${held} of the group ${group}`;
}

/** A number with its noun. */
export function count(number: number, one: string, many = `${one}s`): string {
  return `${number.toLocaleString('en')} ${number === 1 ? one : many}`;
}
