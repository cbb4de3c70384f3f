import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { KindsPage } from './KindsPage';
import { KitsPage } from './KitsPage';
import { ReleasePage } from './ReleasePage';

const release = (version: string, more: Partial<Schemas['PublishedRelease']> = {}): Schemas['PublishedRelease'] => ({
  kit: 'gate-reader',
  version,
  digest: 'k1:0123456789abcdef',
  summary: 'The boarding-gate readers',
  published_by: 'ilse.maren',
  published_at: '2026-11-23T07:00:00Z',
  requires: { 'quay-base': '^1.0' },
  served_in: [],
  ...more,
});

const shown: Schemas['ReleaseShown'] = {
  release: release('2.2.0'),
  files: [
    { path: 'baselines/reader.toml', content: 'sha256:a', bytes: 12 },
    { path: 'copies/tariffs.csv', content: 'sha256:b', bytes: 4 },
  ],
  page: {
    name: 'gate-reader',
    version: '2.2.0',
    summary: '',
    requires: [],
    baselines: [
      {
        name: 'reader',
        summary: 'A gate reads tickets',
        file: 'baselines/reader.toml',
        satisfies: ['SK-9'],
        include: [],
        only_where: null,
        parameters: [],
        clauses: [
          {
            address: 'account:guest',
            wanted: 'The account guest must not exist.',
            details: [],
            contents: null,
            note: null,
            severity: 'critical',
            satisfies: [],
          },
        ],
      },
    ],
  },
};

const difference: Schemas['KitDifference'] = {
  from: 'gate-reader@2.1.0',
  to: 'gate-reader@2.2.0',
  kit: [],
  baselines: [
    {
      name: 'reader',
      is: 'both',
      differences: [],
      clauses: [{ address: 'account:gate', is: 'both', differences: [{ property: 'password_hash', wanted: { is: 'concealed' }, found: { is: 'concealed' } }] }],
    },
  ],
  files: [],
};

test('each release leads to itself, to its differences and to its nodes', async () => {
  const withdrawn = { at: '2026-11-23T08:00:00Z', by: 'tor.havik', because: 'wrong tariffs' };
  serve({
    'GET /api/releases?size=100': {
      body: [release('2.2.0', { served_in: ['harbour'] }), release('2.1.0', { withdrawn, published_at: '2026-11-22T07:00:00Z' })],
    },
  });
  show(<KitsPage />);
  expect((await screen.findByRole('link', { name: 'gate-reader@2.2.0' })).getAttribute('href')).toBe('/kits/gate-reader/2.2.0');
  expect(screen.getByRole('link', { name: 'differences from 2.1.0' }).getAttribute('href')).toBe('/kits/gate-reader/2.2.0?from=2.1.0');
  expect(screen.getByText(/withdrawn .* by tor.havik: wrong tariffs/)).toBeTruthy();
  const nodes = screen.getByRole('link', { name: 'nodes with the desired release gate-reader@2.2.0' });
  expect(decodeURIComponent(nodes.getAttribute('href')!)).toBe('/nodes?filter="gate-reader@2.2.0" in node.releases');
});

test('without releases the page says how to make one', async () => {
  serve({ 'GET /api/releases?size=100': { body: [] } });
  show(<KitsPage />);
  expect(await screen.findByText('constans kit publish DIR')).toBeTruthy();
});

const ofRelease = {
  nodes: { without_deviation: 57, with_deviation: 3, not_known: 0, conceded: 1, with_critical: 0 },
  clauses: { compliant: 98, in_doubt: 0, noncompliant: 1, conceded: 1, unexamined: 0, unknown: 0 },
  rate_basis_points: 9_800,
  rate_with_concessions_basis_points: 9_900,
};

test('a release reads as sentences, its documents as text, its differences property by property', async () => {
  const base = '/api/releases/gate-reader/2.2.0';
  serve({
    [`GET ${base}`]: { body: shown },
    'GET /api/kits/gate-reader/log': {
      body: [
        { release: release('2.2.0'), served: [] },
        { release: release('2.1.0'), served: [] },
      ],
    },
    'GET /api/compare/releases?from=gate-reader@2.1.0&to=gate-reader@2.2.0': { body: difference },
    [`GET ${base}/text?path=baselines/reader.toml`]: { body: { text: 'password_hash = "•"', concealed: true } },
    'GET /api/compliance?by=release': { body: { rows: [{ key: 'gate-reader@2.2.0', ...ofRelease }] } },
    [`GET ${base}/text?path=copies/tariffs.csv`]: { body: { text: 'adult,4.20', concealed: false } },
  });
  show(
    <Routes>
      <Route path="/kits/:kit/:version" element={<ReleasePage />} />
    </Routes>,
    '/kits/gate-reader/2.2.0',
  );
  expect(await screen.findByText('The account guest must not exist.')).toBeTruthy();
  expect(await screen.findByText('concealed → concealed')).toBeTruthy();
  expect(await screen.findByText('98.00 % of its clauses compliant (99.00 % with concessions); 57 of 61 nodes without deviation')).toBeTruthy();
  expect(await screen.findByText('password_hash = "•"')).toBeTruthy();
  await userEvent.click(screen.getByRole('tab', { name: 'copies/tariffs.csv' }));
  expect(await screen.findByText('adult,4.20')).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/kits/gate-reader/2.2.0?file=copies/tariffs.csv');
});

test('kinds are narrowed to what one wants to achieve', async () => {
  const kind = (name: string, purpose: string, achieves: string[]): Schemas['KindPage'] => ({
    name,
    purpose,
    achieves,
    names: 'any words',
    claims: 'its name',
    on_node: 'nothing',
    reactions: [],
    can_be_gone: true,
    correctable: true,
    either: [],
    properties: [{ name: 'port', takes: 'port', note: 'The port', required: true, default: null, concealed: false }],
    example: `[[clause]]\nwhat = "${name}:x"\n`,
  });
  serve({ 'GET /api/kinds': { body: [kind('file', 'Keeps a file', ['write a file']), kind('packet_rule', 'Keeps a rule', ['close a port'])] } });
  show(
    <Routes>
      <Route path="/kinds" element={<KindsPage />} />
      <Route path="/kinds/:kind" element={<KindsPage />} />
    </Routes>,
    '/kinds',
  );
  await userEvent.type(await screen.findByLabelText('What do you want to achieve?'), 'close port');
  expect(screen.queryByRole('link', { name: 'file' })).toBeNull();
  await userEvent.click(screen.getByRole('link', { name: 'packet_rule' }));
  expect(await screen.findByText(/what = "packet_rule:x"/)).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toContain('/kinds/packet_rule');
});
