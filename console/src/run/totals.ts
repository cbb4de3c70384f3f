import type { Schemas } from '../api/client';
import { count } from '../words/words';

/** Whether there is nothing to say of a clause but that all is well. */
export function isQuiet(clause: Schemas['ClauseResult']): boolean {
  const reacts = clause.reaction && clause.reaction.state !== 'not_needed';
  return (clause.outcome === 'in_line' || clause.outcome === 'idle') && !reacts && !clause.missed?.length;
}

/** How many clauses came out how, the gravest first. */
export function totals(report: Schemas['RunReport']): string {
  const would = report.clauses.filter((clause) => clause.would?.due === 'correct').length;
  const { failed, blocked, out_of_line, corrected, in_line, unsupported, idle } = report.counts;
  const parts: [number, string][] = [
    [failed, 'failed'],
    [blocked, 'blocked'],
    [would, 'would be corrected'],
    [out_of_line - would, 'out of line and left'],
    [corrected, 'corrected'],
    [in_line, 'in line'],
    [unsupported, 'not examined'],
    [idle, 'only reacting'],
  ];
  const said = parts.filter(([number]) => number > 0).map(([number, what]) => `${number} ${what}`);
  return `${count(report.clauses.length, 'clause')}${said.length > 0 ? ': ' : ''}${said.join(', ')}`;
}
