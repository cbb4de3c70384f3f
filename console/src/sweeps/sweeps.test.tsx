import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import { ActivityLine } from '../shell/ActivityLine';
import { serve, show } from '../testing';
import { SweepDialog } from './SweepDialog';
import { SweepPage } from './SweepPage';
import { asCommand } from './sweepWords';

const session = (...permissions: string[]) => ({ 'GET /api/session': { body: { person: 'tor.havik', roles: [], permissions, server: {}, token: 't' } } });
const counts = {
  nodes: 3,
  pending: 0,
  silent: 0,
  offered: 0,
  begun: 0,
  done: 3,
  refused: 0,
  not_reached: 0,
  in_line: 2,
  in_line_before: 1,
  failed: 1,
  corrected: 1,
  left: 0,
  would: 0,
  corrected_clauses: 1,
  changed_since: 0,
};
const order = { mode: 'enforce' as const };
const sweep = {
  no: 118,
  what: 'Enforce all clauses',
  order,
  which: 'labels.role == "kiosk"',
  who: 'ilse.maren',
  because: 'install the shell that was missing',
  asked_at: '2026-11-23T07:42:10Z',
  begins_at: '2026-11-23T07:42:10Z',
  ends_at: '2026-11-23T08:42:10Z',
  status: 'done',
  last_done_at: '2026-11-23T07:42:56Z',
  counts,
  now: '2026-11-23T07:43:00Z',
};
const plan = {
  what: 'Enforce all clauses',
  nodes: 3,
  asked: 2,
  can_be_woken: 2,
  silent: 0,
  correct: 4,
  correct_on: 2,
  left_on: { on_drift: 1 },
  each: [
    { name: 'kiosk-auken-3', refused: [{ text: 'mode is observe' }], mode_from: 'the group kiosks' },
    { name: 'kiosk-auken-1', preview: { correct: 3, blocked: 1, leave: { on_drift: 2 } } },
    { name: 'kiosk-auken-2', preview: { correct: 0, blocked: 0 } },
  ],
};
const BEGIN = 'POST /api/sweeps';

beforeEach(() => sessionStorage.clear());

test('what a sweep would do is shown while it is filled in, and several nodes are observed first', async () => {
  const asked = serve({ ...session('run.now'), [BEGIN]: { body: { no: 118, plan } } });
  const close = vi.fn();
  show(<SweepDialog filter="labels.role == 'kiosk'" where="the kiosks" onClose={close} />);
  const dialog = within(await screen.findByRole('dialog', { name: 'Run now on the kiosks' }));
  await userEvent.click(dialog.getByRole('button', { name: 'enforce' }));
  expect(await dialog.findByText(/^2 of 3 nodes begin it, at once\. By what is known, 4 clauses would be corrected on 2 nodes\./)).toBeTruthy();
  const rows = dialog.getAllByRole('listitem').map((row) => row.textContent);
  expect(rows).toEqual([
    'kiosk-auken-3left out: mode is observe (the group kiosks)',
    'kiosk-auken-13 clauses would be corrected, 1 blocked, 2 left: on_drift says report',
  ]);
  expect(dialog.getByRole<HTMLInputElement>('checkbox', { name: /^Do not wait for grace or change windows: for approvers/ }).disabled).toBe(true);
  const begin = await dialog.findByRole<HTMLButtonElement>('button', { name: 'Observe first' });
  expect(begin.disabled, 'without a reason').toBe(true);
  await userEvent.type(dialog.getByLabelText('Only these topics (empty: all)'), 'screen, kiosk');
  await userEvent.type(dialog.getByLabelText('Reason'), 'the winter timetable');
  await userEvent.click(begin);
  await vi.waitFor(() => expect(close).toHaveBeenCalled());
  const sent = asked.filter(({ path }) => path === BEGIN).map(({ body }) => JSON.parse(body));
  expect(
    sent.slice(0, -1).every(({ preview }) => preview),
    'looked at before',
  ).toBe(true);
  expect(sent.at(-1)).toMatchObject({
    order: { mode: 'observe', part: { topics: ['screen', 'kiosk'] } },
    filter: "labels.role == 'kiosk'",
    because: 'the winter timetable',
    preview: false,
    directly: false,
  });
  await vi.waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/activity/S118'));
});

test('a sweep shows what failed first, by clause, and what is in line afterwards', async () => {
  const nodes = [
    {
      name: 'kiosk-brisk-1',
      state: 'done',
      words: [{ text: 'failed: package:kiosk-shell; 2 blocked' }],
      status: 'failed',
      is_in_line: false,
      run: 'r1',
      reached: 17,
      of: 19,
      would: 0,
      took_ms: 46_000,
    },
    { name: 'kiosk-auken-1', state: 'done', words: [{ text: 'in line' }], status: 'in_line', is_in_line: true, reached: 19, of: 19, would: 0, took_ms: 412 },
  ];
  const failure = { address: 'package:kiosk-shell', message: 'no package source offers 3.2.4', nodes: 1, names: ['kiosk-brisk-1'] };
  serve({
    ...session('run.now'),
    'GET /api/sweeps/118': { body: sweep },
    'GET /api/sweeps/118/nodes?size=100': { body: nodes },
    'GET /api/sweeps/118/nodes?size=100&filter=swept.status == "failed"': { body: nodes.slice(0, 1) },
    'GET /api/sweeps/118/failures': { body: [failure] },
  });
  show(
    <Routes>
      <Route path="/activity/:no" element={<SweepPage />} />
    </Routes>,
    '/activity/S118',
  );
  expect(await screen.findByRole('heading', { name: 'Enforce all clauses on 3 nodes' })).toBeTruthy();
  expect(screen.getByRole('img', { name: '2 in line, 1 failed' })).toBeTruthy();
  expect(await screen.findByText('no package source offers 3.2.4')).toBeTruthy();
  expect(screen.getByText('2 of 3')).toBeTruthy();
  expect(screen.getByText(/^1 were before\. Only nodes count that this sweep examined; 1 is not in line, or not known\. 1 clause corrected\./)).toBeTruthy();
  expect(screen.getByText('the last report after 46 s')).toBeTruthy();
  expect(screen.queryByRole('button', { name: 'Stop' }), 'it is over').toBeNull();
  const rows = () =>
    within(screen.getByRole('table', { name: 'Nodes of the sweep' }))
      .getAllByRole('row')
      .slice(1)
      .map((row) => row.textContent?.replace(/\s+/g, ' '));
  expect(rows()).toEqual(['kiosk-brisk-1 failed: package:kiosk-shell; 2 blocked17 of 1946 s', 'kiosk-auken-1 in line19 of 190.4 s']);
  await userEvent.click(screen.getByRole('button', { name: 'failed 1' }));
  await vi.waitFor(() => expect(rows().length).toBe(1));
});

test('a sweep that goes on can be stopped by who may, and an observing one leads to enforcing exactly that', async () => {
  const STOP = 'POST /api/sweeps/118/stop';
  const running = { ...sweep, status: 'running', order: { mode: 'observe' }, counts: { ...counts, done: 2, begun: 1, failed: 0, would: 4 } };
  const answers = { 'GET /api/sweeps/118': { body: running }, 'GET /api/sweeps/118/nodes?size=100': { body: [] }, [STOP]: { body: running } };
  const page = () =>
    show(
      <Routes>
        <Route path="/activity/:no" element={<SweepPage />} />
      </Routes>,
      '/activity/S118',
    );
  serve({ ...session(), ...answers });
  const first = page();
  expect((await screen.findByRole<HTMLButtonElement>('button', { name: 'Stop' })).disabled).toBe(true);
  expect(screen.getByText('for operators, approvers and administrators')).toBeTruthy();
  first.unmount();
  const asked = serve({ ...session('run.now'), ...answers, [BEGIN]: { body: { no: null, plan } } });
  page();
  await vi.waitFor(() => expect(screen.getByRole<HTMLButtonElement>('button', { name: 'Stop' }).disabled).toBe(false));
  await userEvent.click(screen.getByRole('button', { name: 'Stop' }));
  await vi.waitFor(() => expect(asked.some(({ path }) => path === STOP)).toBe(true));
  await userEvent.click(screen.getByRole('button', { name: 'Enforce exactly this…' }));
  await screen.findByRole('dialog', { name: 'Enforce exactly what S118 found' });
  await vi.waitFor(() => expect(asked.some(({ path }) => path === BEGIN)).toBe(true));
  expect(JSON.parse(asked.find(({ path }) => path === BEGIN)?.body ?? '')).toMatchObject({ after: 118, order: { mode: 'enforce' }, preview: true });
});

test('the header says that a sweep goes on and tells when it ends', async () => {
  const activity = { what: 'S118: Enforce all clauses', who: 'ilse.maren', done: 1, total: 3, began: sweep.asked_at, sweep: 118 };
  const answers: Record<string, { body: unknown }> = { 'GET /api/activities': { body: [activity] }, 'GET /api/sweeps/118': { body: sweep } };
  serve(answers);
  const { client } = show(<ActivityLine />);
  const link = await screen.findByRole('link', { name: 'ilse.maren: S118: Enforce all clauses' });
  expect(link.getAttribute('href')).toBe('/activity/S118');
  answers['GET /api/activities'] = { body: [] };
  await client.invalidateQueries({ queryKey: ['activities'] });
  expect(await screen.findByRole('link', { name: 'S118 done: 2 of 3 in line, 1 failed' })).toBeTruthy();
});

test('a sweep is copied as the command that begins it', () => {
  const order = { mode: 'enforce' as const, part: { clauses: ["file:/etc/o'clock"], baseline: 'kiosk-lockdown' }, now: true, correct_once: true };
  expect(asCommand({ order, which: 'labels.site == "auken"' })).toBe(
    `constans sweep enforce 'labels.site == "auken"' --baseline kiosk-lockdown --clause 'file:/etc/o'\\''clock' --now --correct-once --because REASON`,
  );
});
