import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { NodePage } from './NodePage';

const RECENT = new Date(Date.now() - 240_000).toISOString();

function node(more: Partial<Schemas['NodeSummary']> = {}): Schemas['NodeSummary'] {
  return {
    id: '0',
    name: 'kiosk-auken-1',
    labels: { role: 'kiosk' },
    about: { 'os.name': 'debian' },
    last_contact: 'on_time',
    status: 'drift_found',
    mode: 'enforce',
    open_episodes: 1,
    words: {
      status: [{ text: 'drift found, ' }, { ago: RECENT }],
      releases: [{ text: 'has quay-base@1.3.0' }],
      contact: [{ text: 'last contact ' }, { ago: RECENT }],
      problems: [],
    },
    ...more,
  };
}

const none = { without_deviation: 0, with_deviation: 0, not_known: 0, conceded: 0, with_critical: 0 };
const clauses = { compliant: 3, in_doubt: 0, noncompliant: 1, conceded: 0, unexamined: 0, unknown: 0 };
const byControl = [
  { key: 'SK-7', title: 'Kiosk shows tickets only', nodes: { ...none, with_deviation: 1 }, clauses, rate_basis_points: 7_500 },
  { key: 'SK-3', title: 'No shared accounts', nodes: { ...none, without_deviation: 1 }, clauses: { ...clauses, noncompliant: 0 }, rate_basis_points: 10_000 },
  { key: null, nodes: { ...none, conceded: 1 }, clauses, rate_basis_points: 7_500 },
];

function open(
  summary: Schemas['NodeSummary'],
  clauses: Schemas['NodeClause'][] = [],
  episodes: Schemas['Episode'][] = [],
  runs: Record<string, { body: Schemas['RunSummary'][]; link?: string }> = { '': { body: [] } },
) {
  const of = (part: string) => `GET /api/nodes/kiosk-auken-1${part}`;
  serve({
    [of('')]: { body: summary },
    [of('/clauses')]: { body: { clauses, run: '01a225ea', state: 's2:0' } },
    [of('/episodes')]: { body: episodes },
    ...Object.fromEntries(Object.entries(runs).map(([query, answer]) => [of(`/runs?size=15${query}`), answer])),
    [of('/left-behind')]: { body: [] },
    [of('/own')]: { body: {} },
    [of('/layers')]: { body: { settings: [], parameters: [] } },
    'GET /api/session': { body: { person: 'pia.lund', roles: ['reader'], permissions: [], server: {}, token: 't' } },
    'GET /api/compliance?by=control&filter=node.name == "kiosk-auken-1"': { body: { rows: byControl } },
    [of('/why')]: { body: { stage: 'open-water', groups: ['everyone', 'kiosks'], baselines: ['quay-base@1.3.0/login'], clauses: 7 } },
  });
  show(
    <Routes>
      <Route path="/nodes/:name" element={<NodePage />} />
    </Routes>,
    '/nodes/kiosk-auken-1',
  );
}

test('the state of a node is one sentence, with the release and the ages it belongs to', async () => {
  open({ ...node(), can_be_woken: true });
  expect(
    await screen.findByText(
      'drift found, 4 min ago; has quay-base@1.3.0; 1 clause drifted and not corrected. Mode enforce; last contact 4 min ago; can be woken.',
    ),
  ).toBeTruthy();
});

test('a node satisfies controls or does not', async () => {
  open(node());
  const rows = within(await screen.findByRole('table', { name: 'Compliance by control' }))
    .getAllByRole('row')
    .slice(1);
  expect(rows.map((row) => row.textContent)).toEqual(['SK-7Kiosk shows tickets onlynot satisfied75.00 %', 'SK-3No shared accountssatisfied100 %']);
});

test('a problem has its remedy, a freeze its end, and the last change who made it', async () => {
  open(
    node({
      words: { status: [], releases: [], contact: [], problems: [{ message: [{ text: "the clock is 3 h behind the server's" }], remedy: 'set the clock' }] },
      freezes: [{ no: 7, until: '2026-11-23T18:00:00Z', because: 'boarding', clauses: ['service:*'] }],
      changed_by: { no: 118, what: 'set the group kiosks', who: 'tor.havik', because: 'the tariffs', at: RECENT },
    }),
  );
  expect((await screen.findByText(/The clock is 3 h behind the server's/)).textContent).toContain('set the clock');
  expect(screen.getByText(/Frozen by F7 until .*: boarding\. Nothing is corrected of service:\*\./)).toBeTruthy();
  expect(screen.getByRole('link', { name: 'C118' }).getAttribute('href')).toBe('/changes/C118');
});

test('clauses that are not in line come first with their reason; drift says when it happened and how it ended', async () => {
  const clause = (address: string, more: Partial<Schemas['NodeClause']>): Schemas['NodeClause'] => ({
    address,
    severity: 'low',
    origins: ['quay-base@1.3.0/login'],
    satisfies: [],
    outcome: 'in_line',
    status: 'in_line',
    wanted: {},
    ...more,
  });
  const episode: Schemas['Episode'] = {
    address: 'file:/etc/issue',
    severity: 'low',
    in_line_until: RECENT,
    detected_at: RECENT,
    detected_run: '01a225ea',
    closed_at: RECENT,
    closed_as: 'by_hand',
  };
  open(
    node(),
    [clause('file:/etc/motd', {}), clause('file:/etc/issue', { outcome: 'out_of_line', status: 'drift_found', cause: 'drift', reason: 'mode is observe' })],
    [episode],
  );
  expect(await screen.findByText(/mode is observe/)).toBeTruthy();
  expect((await screen.findByRole('link', { name: /^changed at .*, undone by hand, / })).getAttribute('aria-label')).toBeTruthy();
});

test('runs are a list with pages and a filter of its own', async () => {
  const run = (at: number): Schemas['RunSummary'] => {
    // Two statuses in turn, so that no two runs are one line.
    const began = new Date(Date.UTC(2026, 10, 23) - at * 60_000).toISOString();
    const status = at % 2 ? 'drift_corrected' : 'drift_found';
    return { run: `run-${at}`, began, last: began, learned: began, count: 1, mode: 'enforce', status, state: 's2:0', partial: false, missing: 0 };
  };
  const page = (from: number, count: number) => Array.from({ length: count }, (_, at) => run(from + at));
  const failed = 'run.status == "failed"';
  open(node(), [], [], {
    '': { body: page(0, 15), link: '</api/nodes/kiosk-auken-1/runs?after=a>; rel="next"' },
    '&after=a': { body: page(15, 3) },
    [`&filter=${failed}`]: { body: page(40, 1) },
  });
  const links = () => screen.getAllByRole('link').flatMap((link) => link.getAttribute('href')?.split('/nodes/kiosk-auken-1/runs/')[1] ?? []);
  await screen.findByText('1 to 15, more follow');
  expect(links()).toEqual(page(0, 15).map(({ run }) => run));
  await userEvent.click(screen.getByRole('button', { name: 'Next page' }));
  await screen.findByText('16 to 18');
  expect(links()).toEqual(page(15, 3).map(({ run }) => run));
  await userEvent.type(screen.getByLabelText('Filter of Runs'), `${failed}{Enter}`);
  await screen.findByText('1 entry');
  expect(links()).toEqual(['run-40']);
});
