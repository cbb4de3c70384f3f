import { addTo } from './FollowPage';

const clause = (no: number, isQuiet: boolean) => ({ no, place: no, result: {}, words: { is_quiet: isQuiet } });
const answer = (run: string | undefined, ...clauses: object[]) => ({ run: run && { id: run }, clauses }) as never;
const nothing = { last: 0, clauses: [], inLine: 0 };

test('what came out is added once, what is in line is counted, and another run begins anew', () => {
  const first = addTo(nothing, answer('a', clause(1, true), clause(2, false)));
  expect(first).toMatchObject({ run: 'a', last: 2, inLine: 1, clauses: [{ no: 2 }] });
  const twice = addTo(first, answer('a', clause(2, false), clause(3, false)));
  expect(twice).toMatchObject({ last: 3, inLine: 1, clauses: [{ no: 3 }, { no: 2 }] });
  expect(addTo(twice, answer('a'))).toMatchObject(twice);
  expect(addTo(twice, answer('b', clause(1, true)))).toMatchObject({ run: 'b', last: 1, inLine: 1, clauses: [] });
  expect(addTo(nothing, answer(undefined))).toMatchObject(nothing);
});
