import type { Schemas } from '../api/client';

const ON_SCREEN: Record<string, string> = { unmet: 'needs a person', not_all_seen: 'partly unsupported', target_moved: 'target changed' };

/** The name of a status, problem or cause on screen. */
export function words(word: string): string {
  return ON_SCREEN[word] ?? word.replaceAll('_', ' ');
}

/** A number with its noun. */
export function count(number: number, one: string, many = `${one}s`): string {
  return `${number.toLocaleString('en')} ${number === 1 ? one : many}`;
}

/** Where a parameter's value comes from. */
export function layerWords(layer: Schemas['Layer']): string {
  switch (layer.layer) {
    case 'default':
      return "the baseline's default";
    case 'node':
      return 'the node';
    case 'command_line':
      return 'the command line';
    case 'case':
      return 'the case';
    default:
      return `the ${layer.layer} ${layer.name}`;
  }
}

const STARTED_BY: Record<Schemas['StartedBy'], string> = {
  interval: 'the interval',
  new_state: 'a new desired state',
  sweep: 'a sweep',
  operator_on_node: 'a person on the node',
  boot: 'the start of the node',
  after_restart: 'the start of the agent',
  due_reaction: 'a due reaction',
  announced_hour: 'an announced hour',
};

/** What started a run. */
export function startedBy(by: Schemas['StartedBy']): string {
  return STARTED_BY[by];
}

const OUTCOMES: Record<Schemas['Outcome'], string> = {
  in_line: 'in line',
  corrected: 'corrected',
  out_of_line: 'out of line',
  blocked: 'blocked',
  failed: 'failed',
  unsupported: 'not examined',
  idle: 'reacts only',
};

/** The outcome of a clause. */
export function outcomeWords(outcome: Schemas['Outcome']): string {
  return OUTCOMES[outcome];
}

/** The status whose symbol and colour an outcome has. */
export function outcomeStatus(outcome: Schemas['Outcome'], cause?: Schemas['Cause'] | null): Schemas['NodeStatus'] {
  const drifted = cause === 'drift';
  switch (outcome) {
    case 'corrected':
      return drifted ? 'drift_corrected' : 'rolled_out';
    case 'out_of_line':
    case 'blocked':
      return drifted ? 'drift_found' : 'rollout_waiting';
    case 'failed':
      return 'failed';
    case 'unsupported':
      return 'not_all_seen';
    default:
      return 'in_line';
  }
}
