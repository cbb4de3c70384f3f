import { LEAST_PX, ribbonMarks } from './ribbonLayout';

const tick = (name: string, status: 'failed' | 'in_line') => ({ name, status, late: false });

test('few are never lost among many, and all fit', () => {
  const statuses = [
    { status: 'failed' as const, nodes: 1 },
    { status: 'in_line' as const, nodes: 1_999 },
  ];
  const ticks = [tick('kiosk-auken-1', 'failed'), ...Array.from({ length: 1_999 }, (_, at) => tick(`gate-${at}`, 'in_line'))];
  const marks = ribbonMarks(ticks, statuses, 1_000);
  expect(marks).toHaveLength(2_000);
  expect(marks[0]).toMatchObject({ name: 'kiosk-auken-1', left: 0, width: LEAST_PX });
  const last = marks.at(-1)!;
  expect(last.left + last.width).toBeCloseTo(1_000);
});

test('without ticks each status is one bin', () => {
  const marks = ribbonMarks(
    [],
    [
      { status: 'failed', nodes: 10 },
      { status: 'in_line', nodes: 90_000 },
    ],
    1_000,
  );
  expect(marks.map(({ status, nodes, name }) => [status, nodes, name])).toEqual([
    ['failed', 10, undefined],
    ['in_line', 90_000, undefined],
  ]);
});

test('an empty fleet has no marks', () => {
  expect(ribbonMarks([], [], 1_000)).toEqual([]);
});
