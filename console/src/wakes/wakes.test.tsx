import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { NodeActions } from '../node/NodeActions';
import { SelectedNodes } from '../nodes/SelectedNodes';
import { serve, show } from '../testing';
import { answeredWords, bySlowness, wokenWords } from './wakeWords';

const session = (...permissions: string[]) => ({ 'GET /api/session': { body: { person: 'tor.havik', roles: [], permissions, server: {}, token: 't' } } });
const wake = {
  no: 12,
  at: '2026-11-23T06:40:00Z',
  who: 'tor.havik',
  nodes: 3,
  waiting: 2,
  answered: 2,
  up_to_date: 1,
  median_ms: 14,
  slowest_ms: 1_912,
  now: '2026-11-23T06:40:02Z',
};
const node = (name: string, more: object) => ({
  name,
  woken: 'answered' as const,
  answered_ms: 14,
  next_check_in: '2026-11-23T06:54:00Z',
  is_up_to_date: true,
  ...more,
});

test('nodes are asked to check in now, and who does not answer comes first and says when it checks in', async () => {
  const nodes = [
    node('kiosk-auken-1', {}),
    node('kiosk-auken-2', { answered_ms: 1_912 }),
    node('kiosk-auken-3', { woken: 'at_its_check_in', answered_ms: null }),
  ];
  const asked = serve({
    ...session('node.wake'),
    'POST /api/wakes': { body: { ...wake, answered: 0, median_ms: null, slowest_ms: null } },
    'GET /api/wakes/12': { body: wake },
    'GET /api/wakes/12/nodes': { body: nodes },
  });
  show(<SelectedNodes names={nodes.map(({ name }) => name)} onNone={() => {}} />);
  const reach = await screen.findByRole('button', { name: 'Reach now…' });
  await vi.waitFor(() => expect((reach as HTMLButtonElement).disabled).toBe(false));
  await userEvent.click(reach);
  const dialog = within(await screen.findByRole('dialog', { name: 'Reach 3 nodes now' }));
  await userEvent.click(dialog.getByRole('button', { name: 'Ask now' }));
  expect(await dialog.findByText(/W12: 2 of 3 nodes answered, half of them within 14 ms, the last after 1.9 s/)).toBeTruthy();
  const rows = (await dialog.findAllByRole('listitem')).map((row) => row.textContent);
  expect(rows[0]).toMatch(/^kiosk-auken-3cannot be woken; was due at /);
  expect(rows.slice(1)).toEqual(['kiosk-auken-2answered after 1.9 s', 'kiosk-auken-1answered after 14 ms']);
  const sent = asked.filter(({ path }) => path === 'POST /api/wakes').map(({ body }) => JSON.parse(body));
  expect(sent).toEqual([{ nodes: nodes.map(({ name }) => name) }]);
});

test('a self-test shows each step, and what one may not do is said with who may', async () => {
  const test = {
    no: 3,
    node: 'kiosk-auken-1',
    who: 'tor.havik',
    asked_at: '2026-11-23T06:40:00Z',
    ends_at: '2026-11-23T07:40:00Z',
    now: '2026-11-23T06:40:00Z',
    was_waiting: true,
    is_proven: false,
  };
  const clauses = [
    { address: 'directory:/etc', expected: 'alike', seen: 'alike' },
    { address: 'file:/run/constans-self-test', expected: 'different', seen: 'alike' },
  ];
  const done = { offered_at: '2026-11-23T06:40:00.014Z', fetched_at: '2026-11-23T06:40:00.021Z', reported_at: '2026-11-23T06:40:00.044Z' };
  serve({
    ...session('node.wake'),
    'GET /api/nodes/kiosk-auken-1': { body: { name: 'kiosk-auken-1', groups: [] } },
    'POST /api/self-tests': { body: test },
    'GET /api/self-tests/3': { body: { ...test, ...done, clauses, report: { fetched_us: 7_000, compared_us: 3_100, seen: {} } } },
  });
  show(<NodeActions name="kiosk-auken-1" />);
  await userEvent.click(await screen.findByRole('button', { name: 'Actions' }));
  expect(await screen.findByRole('menuitem', { name: /Freeze… for operators, approvers and administrators/ })).toBeTruthy();
  await userEvent.click(await screen.findByRole('menuitem', { name: 'Self-test…' }));
  const dialog = within(await screen.findByRole('dialog', { name: 'Self-test of kiosk-auken-1' }));
  await userEvent.click(dialog.getByRole('button', { name: 'Test now' }));
  expect(await dialog.findByText('T3: not proven')).toBeTruthy();
  expect(
    dialog.getByText(/in 3 ms: directory:\/etc is in line, as it should be; file:\/run\/constans-self-test is in line; expected that it is not in line/),
  ).toBeTruthy();
  expect(dialog.getByText('after 44 ms')).toBeTruthy();
});

test('what is said of a wake fits its numbers', () => {
  expect(answeredWords({ ...wake, nodes: 1, answered: 1 })).toBe('1 of 1 node answered after 1.9 s');
  expect(answeredWords({ ...wake, answered: 0, median_ms: null, slowest_ms: null })).toBe('0 of 3 nodes answered');
  expect(wokenWords(node('a', { woken: 'woken', answered_ms: null, next_check_in: null }))).toBe('woken, no answer yet; has never checked in');
  const due = node('a', { woken: 'at_its_check_in', answered_ms: null });
  expect(wokenWords(due, Date.parse(due.next_check_in) - 1)).toMatch(/^cannot be woken; checks in by itself at /);
  const order = [node('b', {}), node('a', {}), node('c', { answered_ms: null }), node('d', { answered_ms: 900 })].sort(bySlowness);
  expect(order.map(({ name }) => name)).toEqual(['c', 'd', 'a', 'b']);
});
