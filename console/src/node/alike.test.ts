import type { Schemas } from '../api/client';
import { alike } from './alike';

const run = (minute: number, status: Schemas['Status'], state = 's1:a'): Schemas['RunSummary'] => {
  const began = new Date(Date.UTC(2026, 10, 23, 7, minute)).toISOString();
  return { run: String(minute), began, last: began, learned: began, count: 1, mode: 'enforce', status, state, counts: null };
};

test('what still is so is one row; what happened again is not', () => {
  const rows = alike([
    run(5, 'drift_found'),
    run(4, 'drift_found'),
    run(3, 'drift_corrected'),
    run(2, 'drift_corrected'),
    run(1, 'failed'),
    run(0, 'failed', 's1:b'),
  ]);
  expect(rows.map(({ run, times }) => [run.run, times])).toEqual([
    ['5', 2],
    ['3', 1],
    ['2', 1],
    ['1', 1],
    ['0', 1],
  ]);
  expect(rows[0]?.since).toBe(run(4, 'drift_found').began);
});
