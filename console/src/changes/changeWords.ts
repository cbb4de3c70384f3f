import type { Schemas } from '../api/client';
import { exact } from '../words/time';
import { count } from '../words/words';

/** How far a change is. */
export function progressWords(change: Schemas['ChangeSummary']): string {
  switch (change.status) {
    case 'unconfirmed':
      return 'not confirmed';
    case 'requested':
      return 'waits for approval';
    case 'handed_out':
      if (change.nodes === 0) return 'affects no node';
      if (change.outstanding === 0) return change.nodes === 1 ? 'the node has it' : `all ${change.nodes.toLocaleString('en')} nodes have it`;
      if (change.nodes === 1) return 'the node lacks it';
      return `${(change.nodes - change.outstanding).toLocaleString('en')} of ${count(change.nodes, 'node')} have it`;
    case 'in_waves':
      return 'in waves';
    case 'turned_back':
      return 'turned back';
    default:
      return change.status;
  }
}

/** The address of a change's page. */
export function changeAddress(no: number): string {
  return `/changes/C${no}`;
}

/** The lines of an impact: what happens to a clause, on how many nodes, with some of them. */
export function clauseLines(impact: Schemas['Impact']): { verb: string; nodes: number; address: string; examples: string }[] {
  const sorts = [
    ['taken from', 'taken'],
    ['changed on', 'changed'],
    ['new on', 'new'],
  ] as const;
  return sorts.flatMap(([verb, of]) =>
    impact.clauses
      .filter((clause) => clause[of] > 0)
      .map((clause) => {
        const more = clause[of] - clause.examples.length;
        const examples = clause.examples.join(', ') + (more > 0 ? ` and ${more.toLocaleString('en')} more` : '');
        return { verb, nodes: clause[of], address: clause.address, examples };
      }),
  );
}

/** What a person confirms who has seen an impact. */
export function confirmation(impact: Schemas['Impact']): Schemas['Confirmed'] {
  return { takes_from: impact.takes_from, takes: impact.takes, nodes: impact.nodes };
}

function nextRunWords({ last_at, not_expected }: Schemas['AppliedWhen']): string {
  const last = last_at ? `, the last by ${exact(last_at)}` : '';
  return not_expected ? `${last}; ${count(not_expected, 'node')} not on time` : last;
}

/** When nodes apply what they are newly given, and services restart with that. */
export function appliedWords(applied: Schemas['AppliedWhen']): string {
  const on = count(applied.nodes, 'node');
  switch (applied.when) {
    case 'next_run':
      return `Applied on ${on} with the next run${nextRunWords(applied)}.`;
    case 'window_opens':
      return `Applied on ${on} when the change window opens, ${exact(applied.at)}.`;
    case 'on_order':
      return `Applied on ${on} when an operator does it there: rollouts wait.`;
    case 'never':
      return `Not applied on ${on}: mode is observe.`;
  }
}
