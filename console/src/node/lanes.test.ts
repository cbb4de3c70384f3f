import type { Schemas } from '../api/client';
import { lanes } from './lanes';

const at = (minute: number) => new Date(Date.UTC(2026, 10, 23, 6, minute)).toISOString();
const now = Date.parse(at(120));

function episode(address: string, from: number, detected: number, closed?: number): Schemas['Episode'] {
  return {
    address,
    severity: 'high',
    in_line_until: at(from),
    detected_at: at(detected),
    detected_run: '0',
    closed_at: closed === undefined ? null : at(closed),
  };
}

test('a lane a clause, a bar an episode, open ones up to now', () => {
  const drawn = lanes([episode('file:/etc/issue', 0, 30, 60), episode('file:/etc/issue', 60, 90), episode('file:/etc/gate/tariffs.csv', 30, 60, 90)], now);
  expect(drawn.since).toBe(Date.parse(at(0)));
  expect(drawn.lanes.map((lane) => [lane.address, lane.bars.map(({ from, detected, to }) => [from, detected, to])])).toEqual([
    [
      'file:/etc/issue',
      [
        [0, 0.25, 0.5],
        [0.5, 0.75, 1],
      ],
    ],
    ['file:/etc/gate/tariffs.csv', [[0.25, 0.5, 0.75]]],
  ]);
});

test('what happened just now does not fill the whole width', () => {
  const [lane] = lanes([episode('file:/etc/issue', 119, 119)], now).lanes;
  expect(lane?.bars[0]?.from).toBeGreaterThan(0.9);
});
