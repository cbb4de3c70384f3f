import type { Schemas } from '../api/client';
import { contactWords, sentence, statusWords } from './nodeStatus';
import { span } from './time';

const now = Date.UTC(2026, 10, 23, 7, 42);
const ago = (secs: number) => new Date(now - secs * 1_000).toISOString();

function node(more: Partial<Schemas['NodeSummary']> = {}): Schemas['NodeSummary'] {
  return { id: '0', name: 'kiosk-auken-1', labels: {}, about: {}, last_contact: 'on_time', status: 'in_line', last_heard: ago(60), promised: ago(-240), mode: 'enforce', ...more };
}

test('a status always has the release and the age it speaks of', () => {
  const has = { has: 's1:a', wanted: 's1:a', has_releases: ['quay-base@1.3.0'], releases: ['quay-base@1.3.0'], run_status: 'in_line' as const, run_began: ago(120) };
  expect(statusWords(node(has), now)).toBe('in line, 2 min ago; has quay-base@1.3.0');
  const changed = { ...has, wanted: 's1:b', releases: ['quay-base@1.4.0'], wanted_since: ago(720) };
  expect(statusWords(node(changed), now)).toBe('in line, 2 min ago; has quay-base@1.3.0; desired quay-base@1.4.0 since 12 min');
  expect(statusWords(node({ ...has, wanted: 's1:b', wanted_since: ago(720) }), now)).toContain('other values desired since 12 min');
});

test('a release of which something waits is known, and not had', () => {
  const observed = { mode: 'observe' as const, has: 's1:a', wanted: 's1:a', has_releases: ['quay-base@1.4.0'], releases: ['quay-base@1.4.0'], run_status: 'rollout_waiting' as const, run_began: ago(9) };
  expect(statusWords(node(observed), now)).toBe('rollout waiting, 9 s ago; knows quay-base@1.4.0, not all of it applied: mode is observe');
  expect(statusWords(node({ ...observed, mode: 'enforce' }), now)).toBe('rollout waiting, 9 s ago; knows quay-base@1.4.0, not all of it applied');
  expect(statusWords(node({ ...observed, run_status: 'in_line' }), now)).toBe('in line, 9 s ago; has quay-base@1.4.0');
});

test('a new node is told apart from one that somebody changed', () => {
  expect(statusWords(node({}), now)).toBe('no desired state yet');
  expect(statusWords(node({ wanted: 's1:a', releases: ['quay-base@1.3.0'] }), now)).toBe('no full run yet');
});

test('a sentence has mode, drift, last contact and the next one', () => {
  const drifted = { run_status: 'drift_found' as const, run_began: ago(30), has: 's1:a', wanted: 's1:a', has_releases: ['gate-reader@2.1.0'], releases: ['gate-reader@2.1.0'] };
  expect(sentence(node({ ...drifted, open_episodes: 1 }), now)).toBe(
    'drift found, 30 s ago; has gate-reader@2.1.0; 1 clause drifted and not corrected. Mode enforce; last contact 60 s ago, next in 4 min.',
  );
  expect(contactWords(node({ last_heard: null, promised: null }), now)).toBe('no contact yet');
});

test.each([
  [119, '119 s'],
  [120, '2 min'],
  [7_199, '119 min'],
  [7_200, '2 h'],
  [172_800, '2 days'],
])('%i seconds read as %s', (secs, words) => expect(span(secs)).toBe(words));
