import { fireEvent, screen, within } from '@testing-library/react';
import { serve, show } from '../testing';
import { CompliancePage } from './CompliancePage';

const nodes = { without_deviation: 4, with_deviation: 1, not_known: 1, with_critical: 1 };
const clauses = { compliant: 52, in_doubt: 1, noncompliant: 1, unexamined: 0, unknown: 1 };
const compliance = {
  as_of: '2026-11-23T08:12:00Z',
  as_known_at: '2026-11-23T08:12:00Z',
  nodes_in_all: 7,
  undecidable: 0,
  nodes,
  clauses,
  rate_basis_points: 9_629,
  rows: [
    { key: 'SK-9', nodes, clauses: { ...clauses, compliant: 3 }, rate_basis_points: 6_000 },
    { key: null, nodes: { ...nodes, with_critical: 0 }, clauses: { ...clauses, noncompliant: 0 }, rate_basis_points: 10_000 },
  ],
  has_more_rows: false,
};

test('nodes come first, then the rate with what is not known, then the rows with their numbers', async () => {
  serve({ 'GET /api/compliance?by=control': { body: compliance }, 'GET /api/labels': { body: {} } });
  show(<CompliancePage />, '/compliance');
  expect(await screen.findByText('96.29 %')).toBeTruthy();
  expect(screen.getByText('of 6 nodes')).toBeTruthy();
  expect(screen.getByText('1 unknown')).toBeTruthy();
  expect(screen.getByText(/1 node without clauses/)).toBeTruthy();
  const table = within(screen.getByRole('table', { name: 'Compliance by control' }));
  expect(table.getByRole('img', { name: '3 compliant, 1 noncompliant, 1 unknown' })).toBeTruthy();
  expect(table.getByText('60.00 %')).toBeTruthy();
  expect(table.getByText('100 %')).toBeTruthy();
  expect(table.getByText('no control')).toBeTruthy();
});

test('the address has what is counted, of when, and by what', async () => {
  const past = '/api/compliance?by=label:site&as_of=2026-11-21T23:00:00Z';
  const rows = [{ key: 'auken', nodes, clauses, rate_basis_points: 9_629 }];
  serve({
    'GET /api/compliance?by=label:site': { body: { ...compliance, rows } },
    'GET /api/compliance?by=node': { body: compliance },
    [`GET ${past}`]: { body: { ...compliance, rows } },
    'GET /api/labels': { body: { role: ['gate', 'kiosk'], site: ['auken'] } },
  });
  show(<CompliancePage />, '/compliance?by=label:site');
  const link = await screen.findByRole('link', { name: 'auken' });
  expect(decodeURIComponent(link.getAttribute('href')!)).toBe('/nodes?filter=labels.site == "auken"');
  const at = new Date('2026-11-21T23:00:00Z');
  const local = new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
  fireEvent.change(screen.getByLabelText('As of'), { target: { value: local } });
  expect(await screen.findByRole('button', { name: 'Now' })).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/compliance?by=label:site&as_of=2026-11-21T23:00:00Z');
  fireEvent.click(screen.getByRole('button', { name: 'Now' }));
  expect(screen.getByRole('button', { name: 'label:role' })).toBeTruthy();
  fireEvent.click(screen.getByRole('button', { name: 'node' }));
  expect(screen.getByTestId('address').textContent).toBe('/compliance?by=node');
});
