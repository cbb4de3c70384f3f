import { fireEvent, screen, within } from '@testing-library/react';
import { serve, show } from '../testing';
import { CompliancePage } from './CompliancePage';
import { changesOf, isMostlyHigh, pointsWords, rateRange } from './days';

const nodes = { without_deviation: 4, with_deviation: 1, not_known: 1, conceded: 0, with_critical: 1 };
const clauses = { compliant: 52, in_doubt: 1, noncompliant: 1, conceded: 0, unexamined: 0, unknown: 1 };
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
  expect(screen.getByText(/1 noncompliant · 1 unknown · 1 in doubt/)).toBeTruthy();
  expect(screen.getByText(/1 node without clauses/)).toBeTruthy();
  const table = within(screen.getByRole('table', { name: 'Compliance by control' }));
  expect(table.getByRole('img', { name: '3 compliant, 1 noncompliant, 1 unknown' })).toBeTruthy();
  expect(table.getByText('60.00 %')).toBeTruthy();
  expect(table.getByText('100 %')).toBeTruthy();
  expect(table.getByText('no control')).toBeTruthy();
});

test('the key of a control asks about its clauses alone: figures, days, why it moved, and the proof', async () => {
  const of = '&only=control:SK-9';
  const alone = { ...compliance, rate_basis_points: 6_000, rows: [{ key: 'auken', nodes, clauses, rate_basis_points: 6_000 }] };
  serve({
    'GET /api/compliance?by=control': { body: compliance },
    [`GET /api/compliance?by=control${of}`]: { body: { ...alone, rows: [compliance.rows[0]] } },
    [`GET /api/compliance?by=label:site${of}`]: { body: alone },
    'GET /api/labels': { body: { site: ['auken'] } },
  });
  show(<CompliancePage />, '/compliance');
  fireEvent.click(await screen.findByRole('button', { name: 'SK-9' }));
  expect(await screen.findByText('Only clauses of control SK-9')).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/compliance?only=control:SK-9');
  expect(screen.getByRole('link', { name: 'Prove it…' }).getAttribute('href')).toContain('control=SK-9');
  fireEvent.click(await screen.findByRole('button', { name: 'label:site' }));
  expect(await screen.findByRole('link', { name: 'auken' })).toBeTruthy();
  fireEvent.click(screen.getByTestId('CancelIcon'));
  expect(screen.getByTestId('address').textContent).toBe('/compliance?by=label:site');
});

test('what is conceded is counted apart, and both rates are shown', async () => {
  const conceded = { ...compliance, clauses: { ...clauses, conceded: 5 }, nodes: { ...nodes, conceded: 2 }, rate_with_concessions_basis_points: 9_812 };
  serve({ 'GET /api/compliance?by=control': { body: conceded }, 'GET /api/labels': { body: {} } });
  show(<CompliancePage />, '/compliance');
  expect((await screen.findByText('98.12 %')).parentElement?.textContent).toBe('98.12 % with concessions');
  expect(screen.getByText('96.29 %').parentElement?.textContent).toBe('96.29 % of 59 clauses on nodes compliant, as found');
  expect(screen.getByText('2 nodes with only conceded deviations')).toBeTruthy();
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

const counts = (compliant: number, noncompliant: number) => ({ compliant, in_doubt: 0, noncompliant, conceded: 0, unexamined: 0, unknown: 0 });

test('why it moved names reason and change with the points of each, which add up', async () => {
  const change = {
    no: 118,
    what: 'harbour serves quay-base@1.4.0',
    who: 'ilse.maren',
    approved_by: 'tor.havik',
    handed_out_at: '2026-11-19T09:00:00Z',
  };
  const day = { nodes, rate_basis_points: 9_490, clauses: counts(949, 51) };
  serve({
    'GET /api/compliance?by=control&as_of=2026-11-20T00:00:00Z': { body: compliance },
    'GET /api/labels': { body: {} },
    'GET /api/compliance/days?days=30': {
      body: {
        days: [
          { ...day, day: '2026-11-18', from: '2026-11-18T00:00:00Z', at: '2026-11-19T00:00:00Z', is_over: true },
          { ...day, day: '2026-11-19', from: '2026-11-19T00:00:00Z', at: '2026-11-20T00:00:00Z', is_over: true },
        ],
        zone: 'UTC',
        changes: [change],
      },
    },
    'GET /api/compliance/moves?since=2026-11-19T00:00:00Z&as_of=2026-11-20T00:00:00Z': {
      body: {
        since: '2026-11-19T00:00:00Z',
        as_of: '2026-11-20T00:00:00Z',
        as_known_at: '2026-11-29T00:00:00Z',
        before: counts(949, 51),
        after: counts(929, 71),
        rate_before_basis_points: 9_490,
        rate_after_basis_points: 9_290,
        moves: [
          { reason: 'otherwise_desired', change: 118, clauses: 21, compliant: -21, all: 0, basis_points: -210 },
          { reason: 'put_right', clauses: 1, compliant: 1, all: 0, basis_points: 10 },
        ],
        changes: [change],
      },
    },
  });
  show(<CompliancePage />, '/compliance?since=2026-11-19T00:00:00Z&as_of=2026-11-20T00:00:00Z');
  const table = within(await screen.findByRole('table', { name: 'Why the rate moved' }));
  expect(table.getByText(/21 clauses desired otherwise/).textContent).toContain('by C118harbour serves quay-base@1.4.0, ilse.maren, approved by tor.havik');
  expect(table.getByRole('link', { name: 'C118' }).getAttribute('href')).toBe('/changes/C118');
  expect(table.getByText('−2.10')).toBeTruthy();
  expect(table.getByText('+0.10')).toBeTruthy();
  expect(table.getByText('−2.00')).toBeTruthy();
  expect(screen.getByText('94.90 % → 92.90 %')).toBeTruthy();
});

test('the scale shows whole percents around what is there, and a change is marked at the day that it first counts on', () => {
  expect(rateRange([94.16, null, 95.2])).toEqual([94, 96]);
  expect(rateRange([100, 100])).toEqual([98, 100]);
  expect(rateRange([0, 0])).toEqual([0, 2]);
  expect(rateRange([null])).toEqual([0, 100]);
  expect([isMostlyHigh([94.9, null, 94.8, 93.1], [93, 95]), isMostlyHigh([93.1, 93, 94.9], [93, 95])]).toEqual([true, false]);
  expect([pointsWords(-74), pointsWords(0), pointsWords(125)]).toEqual(['−0.74', '0.00', '+1.25']);
  const day = (day: string, at: string) => ({ day, from: `${day}T00:00:00Z`, at, is_over: true, nodes, clauses, rate_basis_points: 0 });
  const change = { no: 1, what: '', who: '', handed_out_at: '2026-11-19T09:00:00Z' };
  const days = [day('2026-11-18', '2026-11-19T00:00:00Z'), day('2026-11-19', '2026-11-19T17:00:00Z')];
  expect([...changesOf({ days, zone: 'UTC', changes: [change] }).keys()]).toEqual(['2026-11-19']);
});
