import type { Schemas } from '../api/client';
import { causeWords, headline } from './clauseWords';

function result(more: Partial<Schemas['ClauseResult']>): Schemas['ClauseResult'] {
  return { address: 'file:/etc/issue', severity: 'low', origins: [], wanted: 'w1:0', decision: { due: 'nothing' }, outcome: 'in_line', took_us: 1, ...more };
}

test.each<[Partial<Schemas['ClauseResult']>, string]>([
  [{}, 'in line'],
  [{ already_there: true }, 'in line, and already was at the first look'],
  [{ outcome: 'out_of_line', decision: { due: 'leave', why: { reason: 'observing' } }, would: { due: 'correct' } }, 'would be corrected'],
  [{ outcome: 'out_of_line', decision: { due: 'leave', why: { reason: 'on_drift', from: 'clause' } } }, 'not corrected: the clause says on_drift = "report"'],
  [{ outcome: 'blocked', decision: { due: 'blocked', by: { need: 'package:a', first: 'package:a', outcome: 'failed' } } }, 'blocked: it needs package:a, which failed'],
  [{ outcome: 'failed', failure: { at: 'correct', message: 'no space' } }, 'failed while correcting'],
])('%j reads as %s', (more, words) => expect(headline(result(more))).toBe(words));

test('a cause says when, or what is new', () => {
  const window = { from: '2026-11-23T01:40:00Z', to: '2026-11-23T02:10:00Z' };
  expect(causeWords(result({ cause: 'drift', drift_window: window }))).toMatch(/^Drift: the node changed between .* and .* \(within 30 min\)$/);
  expect(causeWords(result({ cause: 'rollout', newness: { newness: 'new_here' } }))).toBe('Rollout: desired here for the first time');
});
