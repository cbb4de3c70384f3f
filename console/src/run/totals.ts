import type { Schemas } from '../api/client';
import { count } from '../words/words';

/** Whether a clause is in line and no reaction or missed change needs attention. */
export function isQuiet(clause: Schemas['ClauseResult']): boolean {
  const reacts = clause.reaction && clause.reaction.state !== 'not_needed';
  return (clause.outcome === 'in_line' || clause.outcome === 'idle') && !reacts && !clause.missed?.length;
}

/** The number of clauses by outcome, the most severe first. */
export function totals(report: Schemas['RunReport']): string {
  const would = report.clauses.filter((clause) => clause.would?.due === 'correct').length;
  const { failed, blocked, out_of_line, corrected, in_line, unsupported, idle } = report.counts;
  const parts: [number, string][] = [
    [failed, 'failed'],
    [blocked, 'blocked'],
    [would, 'would be corrected'],
    [out_of_line - would, 'not corrected'],
    [corrected, 'corrected'],
    [in_line, 'in line'],
    [unsupported, 'not examined'],
    [idle, 'reacting only'],
  ];
  const counts = parts.filter(([number]) => number > 0).map(([number, what]) => `${number} ${what}`);
  return `${count(report.clauses.length, 'clause')}${counts.length > 0 ? ': ' : ''}${counts.join(', ')}`;
}
