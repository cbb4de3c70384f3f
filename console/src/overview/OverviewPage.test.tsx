import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { OverviewPage } from './OverviewPage';

const fleet: Schemas['Overview'] = {
  now: '2026-11-23T07:42:10Z',
  total: 2,
  shown: 2,
  undecidable: 0,
  statuses: [
    { status: 'drift_found', nodes: 1 },
    { status: 'in_line', nodes: 1 },
  ],
  ticks: [
    { name: 'gate-auken-1', status: 'drift_found', late: false },
    { name: 'kiosk-auken-1', status: 'in_line', late: true },
  ],
  attention: [
    {
      status: 'drift_found',
      title: 'gate-auken-1: file:/etc/gate/tariffs.csv drifted',
      detail: 'the clause says on_drift = "report"',
      since: '2026-11-23T02:10:00Z',
      address: 'file:/etc/gate/tariffs.csv',
      nodes: ['gate-auken-1'],
    },
  ],
  stages: [{ name: 'harbour', serves: [] }],
  recent_activity: [],
  joining: 1,
  recovering_since: null,
  server_problems: [],
};

test('a problem links to its cause, and a status to the list of its nodes', async () => {
  serve({ 'GET /api/overview': { body: fleet } });
  show(<OverviewPage />);
  const cause = await screen.findByRole('link', { name: 'gate-auken-1: file:/etc/gate/tariffs.csv drifted' });
  expect(decodeURIComponent(cause.getAttribute('href')!)).toBe('/nodes/gate-auken-1?clause=file:/etc/gate/tariffs.csv');
  const drifted = screen.getByRole('link', { name: '1 drift found' });
  expect(decodeURIComponent(drifted.getAttribute('href')!)).toBe('/nodes?filter=node.status == "drift_found"');
  expect(screen.getByText('constans join list')).toBeTruthy();
});

test('nodes without any deviation and the rate of 30 days are shown, and lead to the figures with the same filter', async () => {
  const nodes = { without_deviation: 1, with_deviation: 1, not_known: 0, conceded: 0, with_critical: 1 };
  const clauses = { compliant: 19, in_doubt: 0, noncompliant: 1, conceded: 0, unexamined: 0, unknown: 0 };
  const filter = 'labels.site == "auken"';
  serve({
    [`GET /api/overview?filter=${filter}`]: { body: fleet },
    [`GET /api/compliance?by=severity&filter=${filter}`]: {
      body: {
        as_of: fleet.now,
        as_known_at: fleet.now,
        nodes_in_all: 2,
        undecidable: 0,
        nodes,
        clauses,
        rate_basis_points: 9_500,
        rows: [],
        has_more_rows: false,
      },
    },
    [`GET /api/compliance/days?days=30&filter=${filter}`]: {
      body: { days: [{ day: '2026-11-23', at: fleet.now, nodes, clauses, rate_basis_points: 9_500 }], changes: [] },
    },
  });
  show(<OverviewPage />, `/?filter=${encodeURIComponent(filter)}`);
  // The card is fetched after the page is there.
  expect(await screen.findByText('95.00 %', {}, { timeout: 10_000 })).toBeTruthy();
  expect(screen.getByText('node with a')).toBeTruthy();
  expect(await screen.findByLabelText('Rate at the end of each of 1 days')).toBeTruthy();
  const link = screen.getByRole('link', { name: 'By control and more' });
  expect(decodeURIComponent(link.getAttribute('href')!)).toBe(`/compliance?filter=${filter}`);
});

test('the ribbon is walked by arrows, and Enter opens the node', async () => {
  serve({ 'GET /api/overview': { body: fleet } });
  show(<OverviewPage />);
  const ribbon = await screen.findByRole('listbox', { name: '2 nodes by status, the most severe first' });
  ribbon.focus();
  await userEvent.keyboard('{ArrowRight}{Enter}');
  expect(screen.getByTestId('address').textContent).toBe('/nodes/kiosk-auken-1');
});

test('recent activity links to the report that noticed it, and to the change that was handed out', async () => {
  const event = { detail: {}, subject: '' };
  const recent_activity: Schemas['Event'][] = [
    {
      ...event,
      id: 9,
      at: '2026-11-23T07:12:00Z',
      kind: 'drift_found',
      node: 'gate-auken-1',
      run: 'r1',
      status: 'drift_found',
      words: [{ text: 'drift found: file:/etc/issue' }],
    },
    {
      ...event,
      id: 8,
      at: '2026-11-23T07:10:00Z',
      kind: 'handed_out',
      who: 'tor.havik',
      change: 118,
      status: 'rolled_out',
      words: [{ text: 'handed out a change: kiosks' }],
    },
    {
      ...event,
      id: 7,
      at: '2026-11-23T07:00:00Z',
      kind: 'silent',
      subject: 'kiosk-tern-9',
      words: [{ text: 'silent, last contact ' }, { time: '2026-11-23T06:00:00Z' }],
    },
  ];
  serve({ 'GET /api/overview': { body: { ...fleet, recent_activity } } });
  show(<OverviewPage />);
  const link = async (name: RegExp) => (await screen.findByRole('link', { name })).getAttribute('href');
  expect(await link(/gate-auken-1 drift found: file:\/etc\/issue/)).toBe('/nodes/gate-auken-1/runs/r1');
  expect(await link(/tor.havik handed out a change: kiosks/)).toBe('/changes/C118');
  expect(screen.getByText('kiosk-tern-9').closest('a'), 'a retired node has no page').toBeNull();
});

test('an empty fleet says what to do next with the command', async () => {
  serve({ 'GET /api/overview': { body: { ...fleet, total: 0, shown: 0, statuses: [], ticks: [], attention: [], joining: 0 } } });
  show(<OverviewPage />);
  expect((await screen.findByText(/constans invite/)).textContent).toContain('constans join approve NAME');
});

test('a failure says what failed', async () => {
  serve({ 'GET /api/overview': { status: 503, body: { type: 'database', title: 'the database does not answer', status: 503, hint: 'try again' } } });
  show(<OverviewPage />);
  expect((await screen.findByRole('alert')).textContent).toBe('the database does not answer: try again');
});
