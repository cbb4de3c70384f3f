import { LEAST_PX, ribbonMarks } from './ribbonLayout';

const tick = (name: string, sign: 'failed' | 'in_line') => ({ name, sign, late: false });

test('few are never lost among many, and all fit', () => {
  const signs = [
    { sign: 'failed' as const, nodes: 1 },
    { sign: 'in_line' as const, nodes: 1_999 },
  ];
  const ticks = [tick('kiosk-auken-1', 'failed'), ...Array.from({ length: 1_999 }, (_, at) => tick(`gate-${at}`, 'in_line'))];
  const marks = ribbonMarks(ticks, signs, 1_000);
  expect(marks).toHaveLength(2_000);
  expect(marks[0]).toMatchObject({ name: 'kiosk-auken-1', left: 0, width: LEAST_PX });
  const last = marks.at(-1)!;
  expect(last.left + last.width).toBeCloseTo(1_000);
});

test('without ticks each sign is one bin', () => {
  const marks = ribbonMarks([], [{ sign: 'failed', nodes: 10 }, { sign: 'in_line', nodes: 90_000 }], 1_000);
  expect(marks.map(({ sign, nodes, name }) => [sign, nodes, name])).toEqual([
    ['failed', 10, undefined],
    ['in_line', 90_000, undefined],
  ]);
});

test('an empty fleet has no marks', () => {
  expect(ribbonMarks([], [], 1_000)).toEqual([]);
});
