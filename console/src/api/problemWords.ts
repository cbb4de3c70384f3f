import { Refused } from './client';

/** What went wrong and what to do. */
export function problemWords(error: Error): string {
  const problem = error instanceof Refused ? error.problem : undefined;
  return problem ? problem.title + (problem.hint ? `: ${problem.hint}` : '') : error.message;
}
