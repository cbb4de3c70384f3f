import type { Schemas } from '../api/client';
import { heardWords, sentence, standingWords } from './standing';
import { span } from './time';

const now = Date.UTC(2026, 10, 23, 7, 42);
const ago = (secs: number) => new Date(now - secs * 1_000).toISOString();

function node(standing: Schemas['NodeStanding'], more: Partial<Schemas['NodeSummary']> = {}): Schemas['NodeSummary'] {
  return { id: '0', name: 'kiosk-auken-1', labels: {}, about: {}, hearing: 'on_time', sign: 'in_line', last_heard: ago(60), promised: ago(-240), standing, ...more };
}

test('a status never stands without the release and the age it speaks of', () => {
  const has = { has: 's1:a', wanted: 's1:a', has_releases: ['quay-base@1.3.0'], releases: ['quay-base@1.3.0'], status: 'in_line' as const, run_began: ago(120) };
  expect(standingWords(node(has), now)).toBe('in line, 2 min ago; has quay-base@1.3.0');
  const wanted = { ...has, wanted: 's1:b', releases: ['quay-base@1.4.0'], wanted_since: ago(720) };
  expect(standingWords(node(wanted), now)).toBe('in line, 2 min ago; has quay-base@1.3.0, wanted quay-base@1.4.0 since 12 min');
  expect(standingWords(node({ ...has, wanted: 's1:b', wanted_since: ago(720) }), now)).toContain('wanted with other values since 12 min');
});

test('a new node is told apart from one that somebody changed', () => {
  expect(standingWords(node({}), now)).toBe('nothing is wanted of it yet');
  expect(standingWords(node({ wanted: 's1:a', releases: ['quay-base@1.3.0'] }), now)).toBe('no full run yet');
});

test('a sentence says mode, drift and when it comes next', () => {
  const drifted = { status: 'drift_found' as const, run_began: ago(30), has: 's1:a', wanted: 's1:a', has_releases: ['gate-reader@2.1.0'], releases: ['gate-reader@2.1.0'], mode: 'enforce' as const };
  expect(sentence(node(drifted, { open_episodes: 1 }), now)).toBe(
    'drift found, 30 s ago; has gate-reader@2.1.0; 1 clause drifted and stays so. Its agent enforces; heard 60 s ago, next check-in in 4 min.',
  );
  expect(heardWords(node({}, { last_heard: null, promised: null }), now)).toBe('never heard');
});

test.each([
  [119, '119 s'],
  [120, '2 min'],
  [7_199, '119 min'],
  [7_200, '2 h'],
  [172_800, '2 days'],
])('%i seconds read as %s', (secs, words) => expect(span(secs)).toBe(words));
