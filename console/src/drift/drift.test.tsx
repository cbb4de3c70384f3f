import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { show } from '../testing';
import { DriftPage } from './DriftPage';

const figures = {
  episodes: 9,
  nodes: 6,
  drills: 0,
  open: 4,
  only_reported: 3,
  detected: 8,
  corrected: 3,
  by_hand: 1,
  by_rollout: 1,
  no_longer: 0,
  detected_within: { median_secs: 36_000, p95_secs: 40_000, mean_secs: 30_000 },
  corrected_after: { median_secs: null, p95_secs: null, mean_secs: null },
};
const tariffs = 'file:/etc/gate/tariffs.csv';
const episode = {
  node: 'gate-corran-11',
  address: tariffs,
  severity: 'critical',
  in_line_until: '2026-11-21T20:00:00Z',
  detected_at: '2026-11-22T06:00:00Z',
  detected_run: '01a207c2-0000-7000-8000-000000000000',
  related: {
    window: { from: '2026-11-21T20:00:00Z', to: '2026-11-22T06:00:00Z' },
    records: [
      { at: '2026-11-21T23:01:00Z', kind: 'sign_in', account: 'dock-service', text: 'over SSH from 192.0.2.40, by publickey', source: 'the journal' },
      { at: '2026-11-21T23:04:00Z', kind: 'sudo', account: 'dock-service', text: 'as root: /usr/bin/tee /etc/gate/tariffs.csv', source: 'the journal' },
    ],
    words: [
      [{ time: '2026-11-21T23:01:00Z' }, { text: ' · signed in dock-service: over SSH' }],
      [{ time: '2026-11-21T23:04:00Z' }, { text: ' · sudo dock-service' }],
    ],
  },
};
const drift = {
  since: '2026-10-30T08:12:00Z',
  until: '2026-11-29T08:12:00Z',
  undecidable: 0,
  all: figures,
  rows: [{ key: tariffs, figures }],
  has_more_rows: false,
  recurring: [{ node: 'kiosk-dunmoy-10', address: 'file:/etc/kiosk/shell.conf', times: 5, since: '2026-11-29T01:00:00Z' }],
};

const found = {
  alike: [
    {
      sort: 'drifted',
      message: 'its clause only reports',
      differences: [{ property: 'content', wanted: { is: 'value', value: 'auken;12' }, found: { is: 'value', value: 'auken;1' } }],
      nodes: ['gate-corran-11', 'gate-corran-13'].map((node) => ({ node, since: '2026-11-22T06:00:00Z', run: '01a207c2-0000-7000-8000-000000000000' })),
    },
  ],
  nodes: 2,
  has_more_nodes: false,
};

const acceptable = {
  run: '01a207c2-0000-7000-8000-000000000000',
  since: '2026-11-22T06:00:00Z',
  differences: found.alike[0]!.differences,
  values: [{ parameter: 'gate-reader/gate.tariff', now: { value: 12, layer: 'group', name: 'gates' }, value: 1 }],
  why_not: null,
  alone: [{ property: 'text', value: 'tariff = 1\n' }],
  alone_why_not: null,
  groups: [
    { name: 'night-trial', nodes: 2, why_not: 'it would need other values', also: [] },
    { name: 'gates', nodes: 9, why_not: null, also: ['file:/etc/gate/lanes.conf'] },
  ],
};
const previewed = {
  change: { no: 131, what: 'set the group gates' },
  impact: { nodes: 9, settings: 0, takes: 0, takes_from: 0, clauses: [], clauses_left_out: 0, restarts: [], unusable: [] },
  typed_from: 10,
};

const sent: unknown[] = [];

/** Answers by path: the beginning of the period depends on when the test runs. */
function serveDrift() {
  const asked: URL[] = [];
  sent.length = 0;
  const bodies: Record<string, unknown> = {
    '/api/drift': drift,
    '/api/drift/episodes': [episode],
    '/api/drift/found': found,
    '/api/labels': { site: ['corran'] },
    '/api/drift/acceptable': acceptable,
    '/api/drift/accept': { change: 131, previewed: true, nodes: 9 },
    '/api/changes/131': previewed,
  };
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url);
    asked.push(url);
    if (request.method === 'POST') sent.push(await request.json());
    return new Response(JSON.stringify(bodies[url.pathname]), { headers: { 'Content-Type': 'application/json' } });
  });
  return asked;
}

test('drift is shown by clause, and one clause across all nodes', async () => {
  const asked = serveDrift();
  show(<DriftPage />, '/drift');
  const table = within(await screen.findByRole('table', { name: 'Drift by clause' }));
  const cells = table.getAllByRole('row')[1]!.querySelectorAll('td');
  expect([...cells].map((cell) => cell.textContent)).toEqual([tariffs, '6', '9', '4', '3', '3', '1', '1', '10 h', '–']);
  expect(screen.getByText(/open, 3 of these only reported/)).toBeTruthy();
  expect(screen.getByText(/detected within 0 to/).textContent).toContain('10 h (half)');
  expect(screen.getByText(/Recurring within the last day/).textContent).toContain('corrected 5 times');
  await userEvent.click(table.getByRole('button', { name: tariffs }));
  expect(screen.getByTestId('address').textContent).toBe(`/drift?clause=${tariffs}`);
  expect(await screen.findByText('Episodes of one clause across all nodes')).toBeTruthy();
  await vi.waitFor(() => expect(asked.some((url) => url.searchParams.get('clause') === tariffs)).toBe(true));
  const alike = within(await screen.findByRole('region', { name: 'On 2 nodes' }));
  expect(alike.getByRole('table').textContent).toContain('contentauken;12auken;1');
  expect(alike.getAllByRole('link').map((link) => link.textContent)).toEqual(['gate-corran-11', 'gate-corran-13', 'Accept…']);
  const episodes = within(screen.getByRole('table', { name: 'Episodes' }));
  expect(episodes.getByRole('link', { name: 'gate-corran-11' }).getAttribute('href')).toContain('/nodes/gate-corran-11?clause=');
  expect(episodes.getByText('open')).toBeTruthy();
});

test('an episode says whom the records of its time name, and opens them', async () => {
  serveDrift();
  show(<DriftPage />, '/drift');
  const summary = await screen.findByText('2 related records, naming dock-service');
  const records = within(summary.closest('details')!).getAllByRole('listitem', { hidden: true });
  expect(records.map((record) => record.textContent)).toEqual([
    expect.stringContaining('signed in dock-service: over SSH'),
    expect.stringContaining('sudo dock-service'),
  ]);
});

test('what was found is accepted as the value of a group, after its impact was shown', async () => {
  const asked = serveDrift();
  show(<DriftPage />, `/drift?clause=${encodeURIComponent(tariffs)}`);
  await userEvent.click(await screen.findByRole('link', { name: 'Accept…' }));
  const dialog = within(await screen.findByRole('dialog', { name: 'Accept what was found on gate-corran-11?' }));
  expect(await dialog.findByText(/would make it desired; now 12, from/)).toBeTruthy();
  expect(dialog.getByRole('radio', { name: 'the group night-trial: cannot, it would need other values' })).toHaveProperty('disabled', true);
  expect(dialog.getByRole('radio', { name: 'the group gates: 9 nodes; alters also file:/etc/gate/lanes.conf' })).toHaveProperty('checked', true);
  expect(dialog.getByRole('link', { name: 'Ask for a concession instead' }).getAttribute('href')).toContain('node=gate-corran-11');
  await userEvent.type(dialog.getByRole('textbox', { name: 'Reason' }), 'the tariff of the winter');
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  expect(await screen.findByRole('dialog', { name: 'Hand out C131: set the group gates?' })).toBeTruthy();
  expect(sent).toEqual([{ node: 'gate-corran-11', clause: tariffs, run: acceptable.run, group: 'gates' }]);
  const posted = asked.find((url) => url.pathname === '/api/drift/accept')!;
  expect(Object.fromEntries(posted.searchParams)).toEqual({ because: 'the tariff of the winter', preview: 'true' });
});

test('what was found is accepted for one node alone, until a day', async () => {
  serveDrift();
  show(<DriftPage />, `/drift?clause=${encodeURIComponent(tariffs)}`);
  await userEvent.click(await screen.findByRole('link', { name: 'Accept…' }));
  const dialog = within(await screen.findByRole('dialog', { name: 'Accept what was found on gate-corran-11?' }));
  await userEvent.click(await dialog.findByRole('radio', { name: 'gate-corran-11 alone, over what its groups give' }));
  await userEvent.type(dialog.getByLabelText('Until (UTC)'), '2026-12-24T00:00');
  expect(dialog.getByRole('button', { name: /--alone --until 2026-12-24T00:00:00Z$/ })).toBeTruthy();
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  expect(await screen.findByRole('dialog', { name: 'Hand out C131: set the group gates?' })).toBeTruthy();
  expect(sent).toEqual([{ node: 'gate-corran-11', clause: tariffs, run: acceptable.run, until: '2026-12-24T00:00:00Z' }]);
});
