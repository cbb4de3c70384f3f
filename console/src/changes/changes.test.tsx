import { fireEvent, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { ChangePage } from './ChangePage';
import { ChangesPage } from './ChangesPage';
import { ImpactView } from './ImpactView';

const change: Schemas['ChangeSummary'] = {
  no: 118,
  kind: 'group',
  what: 'set the group kiosks',
  who: 'tor.havik',
  because: 'idle times of the winter',
  status: 'handed_out',
  drafted: '2026-11-23T07:42:10Z',
  ended: '2026-11-23T07:42:12Z',
  nodes: 41,
  outstanding: 12,
  takes: 0,
};
const impact: Schemas['Impact'] = {
  nodes: 5,
  settings: 0,
  takes: 10,
  takes_from: 5,
  clauses: [
    { address: 'file:/etc/issue', new: 0, changed: 0, taken: 5, examples: ['kiosk-auken-1', 'kiosk-auken-2', 'kiosk-brisk-1'] },
    { address: 'file:/etc/kiosk/shell.conf', new: 0, changed: 2, taken: 0, examples: ['kiosk-tern-1', 'kiosk-tern-2'] },
  ],
  clauses_left_out: 0,
  restarts: [{ address: 'service:kiosk-shell', nodes: 2 }],
  applied: [
    { nodes: 3, when: 'next_run' },
    { nodes: 2, when: 'window_opens', at: '2026-11-23T21:00:00Z' },
  ],
  restarting: [{ node: 'gate-auken-1', since: '2026-11-22T06:00:00Z', because: ['linux-image'], at: '2026-11-23T21:00:00Z', left: null }],
  unusable: [],
};
const shown = (summary: Partial<Schemas['ChangeSummary']>): Schemas['ChangeShown'] => ({
  change: { ...change, ...summary },
  impact,
  edits: [{ title: 'stages', edit: { key: 'stages', before: ['harbour'], after: ['pilot'] }, difference: '- harbour\n+ pilot\n' }],
  nodes: [{ name: 'kiosk-auken-1', has_since: null, next_check_in: '2026-11-23T07:50:00Z', is_later: false }],
  last_by: '2026-11-23T07:50:00Z',
  typed_from: 3,
});
const session = { person: 'ilse.maren', roles: ['administrator'], permissions: ['change.decide'], server: {}, token: 't' };

function page(address: string) {
  return show(
    <Routes>
      <Route path="/changes" element={<ChangesPage />} />
      <Route path="/changes/:no" element={<ChangePage />} />
    </Routes>,
    address,
  );
}

test('an impact says when nodes apply it and which pending restarts come with it', () => {
  show(<ImpactView impact={impact} />);
  expect(screen.getByText('Applied on 3 nodes with the next run.')).toBeTruthy();
  expect(screen.getByText('Applied on 2 nodes when the change window opens, 23 Nov 2026, 21:00:00 UTC.')).toBeTruthy();
  expect(screen.getByText(/has a restart pending since .*linux-image.*: at 23 Nov 2026, 21:00:00 UTC/)).toBeTruthy();
});

test('a change is listed with who, why, and how many nodes have it', async () => {
  serve({ 'GET /api/changes?size=100': { body: [change] } });
  page('/changes');
  expect(await screen.findByText('29 of 41 nodes have it')).toBeTruthy();
  expect(screen.getByText('idle times of the winter')).toBeTruthy();
  expect(screen.getByRole('link', { name: 'C118' }).getAttribute('href')).toBe('/changes/C118');
});

test('taking back shows what that takes from nodes, and its number is typed before it is handed out', async () => {
  const asked = serve({
    'GET /api/session': { body: session },
    'GET /api/changes/118': { body: shown({}) },
    'POST /api/changes/118/go-back': { body: { change: 119, previewed: true, nodes: 5, unusable: [], impact } },
    'GET /api/changes/119': { body: shown({ no: 119, what: 'take back C118: set the group kiosks', status: 'previewed', goes_back: 118 }) },
    'POST /api/changes/119/confirm': { body: { change: 119, previewed: false, nodes: 5, unusable: [], impact } },
  });
  page('/changes/C118');
  const takeBack = await screen.findByRole<HTMLButtonElement>('button', { name: 'Take back…' });
  await vi.waitFor(() => expect(takeBack.disabled).toBe(false));
  fireEvent.click(takeBack);
  fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'too short' } });
  fireEvent.click(screen.getByRole('button', { name: 'Show the impact' }));
  const handOut = await screen.findByRole('button', { name: 'Hand out' });
  expect(screen.getAllByText('taken from 5 nodes').length).toBeGreaterThan(0);
  expect(handOut.hasAttribute('disabled')).toBe(true);
  fireEvent.change(screen.getByLabelText(/Type the number/), { target: { value: '4' } });
  expect(handOut.hasAttribute('disabled')).toBe(true);
  fireEvent.change(screen.getByLabelText(/Type the number/), { target: { value: '5' } });
  fireEvent.click(handOut);
  await vi.waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/changes/C119'));
  const sent = (path: string) => JSON.parse(asked.find((one) => one.path === path)?.body ?? '{}') as unknown;
  expect(sent('POST /api/changes/118/go-back')).toEqual({ because: 'too short', preview: true });
  expect(sent('POST /api/changes/119/confirm')).toEqual({ takes_from: 5, takes: 10, nodes: 5 });
});

test('who may not decide sees what others may, and who they are', async () => {
  serve({ 'GET /api/session': { body: { ...session, permissions: ['node.read'] } }, 'GET /api/changes/118': { body: shown({}) } });
  page('/changes/C118');
  expect(await screen.findByText(/29 of 41 nodes have it/)).toBeTruthy();
  expect((screen.getByRole('button', { name: 'Take back…' }) as HTMLButtonElement).disabled).toBe(true);
  expect(await screen.findByText('for approvers and administrators')).toBeTruthy();
});

test('a requested change is approved or denied by another person, who sees the impact', async () => {
  const asked = serve({
    'GET /api/session': { body: session },
    'GET /api/changes/118': { body: { ...shown({ status: 'requested', ended: null }), asks_for_second_person: ['the group kiosks'] } },
    'POST /api/changes/118/deny': { body: change },
    'POST /api/changes/118/approve': { body: { change: 118, previewed: false, requested: false, nodes: 5, unusable: [], impact } },
  });
  page('/changes/C118');
  expect(await screen.findByText(/waits for approval\. A second person is needed for the group kiosks\./)).toBeTruthy();
  const deny = await screen.findByRole<HTMLButtonElement>('button', { name: 'Deny…' });
  await vi.waitFor(() => expect(deny.disabled).toBe(false));
  fireEvent.click(deny);
  expect(screen.getByRole('button', { name: 'Deny' }).hasAttribute('disabled')).toBe(true);
  fireEvent.change(screen.getByLabelText('Reason'), { target: { value: 'the festival is on' } });
  fireEvent.click(screen.getByRole('button', { name: 'Deny' }));
  await vi.waitFor(() => expect(screen.queryByLabelText('Reason')).toBeNull());
  fireEvent.click(screen.getByRole('button', { name: 'Approve…' }));
  fireEvent.change(screen.getByLabelText(/Type the number/), { target: { value: '5' } });
  fireEvent.click(screen.getByRole('button', { name: 'Approve' }));
  await vi.waitFor(() => expect(asked.some((one) => one.path === 'POST /api/changes/118/approve')).toBe(true));
  const sent = (path: string) => JSON.parse(asked.find((one) => one.path === path)?.body ?? '{}') as unknown;
  expect(sent('POST /api/changes/118/deny')).toEqual({ because: 'the festival is on' });
  expect(sent('POST /api/changes/118/approve')).toEqual({ takes_from: 5, takes: 10, nodes: 5 });
});

test('nobody approves their own request', async () => {
  serve({ 'GET /api/session': { body: { ...session, person: 'tor.havik' } }, 'GET /api/changes/118': { body: shown({ status: 'requested', ended: null }) } });
  page('/changes/C118');
  expect(await screen.findByText(/You asked for it yourself: another person approves it\./)).toBeTruthy();
  expect((screen.getByRole('button', { name: 'Approve…' }) as HTMLButtonElement).disabled).toBe(true);
});

test('the nodes of a change are a list, and those without it fetch it now', async () => {
  const handedOut = shown({ status: 'handed_out', outstanding: 1, ended: '2026-11-23T07:40:00Z' });
  const nodes = [...handedOut.nodes, { name: 'kiosk-auken-2', has_since: '2026-11-23T07:41:00Z', next_check_in: null, is_later: false }];
  const wake = {
    no: 7,
    at: '2026-11-23T07:42:00Z',
    who: 'ilse.maren',
    nodes: 1,
    waiting: 1,
    answered: 1,
    up_to_date: 1,
    slowest_ms: 14,
    now: '2026-11-23T07:42:01Z',
  };
  const asked = serve({
    'GET /api/session': { body: { ...session, permissions: ['node.wake'] } },
    'GET /api/changes/118': { body: handedOut },
    'GET /api/changes/118/nodes?size=100': { body: nodes },
    'POST /api/wakes': { body: wake },
    'GET /api/wakes/7': { body: wake },
    'GET /api/wakes/7/nodes': { body: [] },
  });
  page('/changes/C118');
  expect(await screen.findByRole('link', { name: 'kiosk-auken-2' })).toBeTruthy();
  expect(screen.getByText(/^has it since/)).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Fetch now…' }));
  await userEvent.click(screen.getByRole('button', { name: 'Ask now' }));
  expect(await screen.findByText(/W7: 1 of 1 node answered after 14 ms/)).toBeTruthy();
  expect(JSON.parse(asked.find(({ path }) => path === 'POST /api/wakes')?.body ?? '')).toEqual({ change: 118 });
});
