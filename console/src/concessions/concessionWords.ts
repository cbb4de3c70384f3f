import type { Schemas } from '../api/client';
import { clock } from '../words/time';
import { count } from '../words/words';

const STATUSES: Record<Schemas['ConcessionStatus'], string> = {
  asked: 'waits for approval',
  in_force: 'in force',
  refused: 'refused',
  withdrawn: 'withdrawn',
  ended: 'ended',
  over: 'over',
};

/** How far a concession is, with the date that goes with it. */
export function statusWords({ status, until, decided }: Schemas['Concession']): string {
  if (status === 'over') return `over since ${clock(until)}${decided ? '' : ', never decided'}`;
  return status === 'asked' || status === 'in_force' ? `${STATUSES[status]}, until ${clock(until)}` : STATUSES[status];
}

const NAMED = 5;

/** For which nodes it is. */
export function placeWords({ filter, nodes }: Schemas['Concession']): string {
  if (filter) return `nodes where ${filter}`;
  return nodes.length <= NAMED ? nodes.join(', ') : `${nodes.slice(0, NAMED).join(', ')} and ${nodes.length - NAMED} more`;
}

/** What it covers, and what is corrected when it ends. */
export function coverageWords({ coverage, freeze, status }: Schemas['Concession']): string[] {
  const sentences = [`${count(coverage.clauses, 'clause')} on ${count(coverage.nodes, 'node')}`];
  if (coverage.clauses === 0) return [`${sentences[0]} now`];
  sentences.push(
    coverage.noncompliant === 0 ? 'none of them deviates now' : `${coverage.noncompliant} on ${count(coverage.nodes_noncompliant, 'node')} deviate now`,
  );
  const corrected = coverage.to_correct;
  if (freeze != null) sentences.push(`F${freeze} keeps them as they are${corrected > 0 ? `; when it ends, the next runs correct ${corrected} of them` : ''}`);
  else if (corrected > 0 && status === 'in_force') sentences.push(`no freeze keeps them: the next runs correct ${corrected} of them`);
  return sentences;
}

/** Where a concession for a clause on a node is asked for. */
export function askAddress(node: string, clause: string): string {
  return `/compliance/concessions?ask=&node=${encodeURIComponent(node)}&clause=${encodeURIComponent(clause)}`;
}
