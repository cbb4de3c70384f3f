import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { EvidencePage } from './EvidencePage';

const session = { person: 'pia.lund', roles: ['reader'], permissions: ['node.read', 'evidence.make'], server: {}, token: 't' };
const counted = {
  clauses: { compliant: 90, in_doubt: 0, noncompliant: 10, conceded: 0, unexamined: 0, unknown: 0 },
  nodes: { without_deviation: 181, with_deviation: 20, not_known: 2, conceded: 0, with_critical: 4 },
};
const question = { filter: null, controls: [], as_of: '2026-11-21T23:00:00Z', as_known_at: '2026-11-21T23:00:00Z', since: null };
const made = {
  no: 3,
  question,
  formats: ['html'],
  because: 'the auditor asked',
  asked_by: 'pia.lund',
  asked: '2026-11-23T06:40:00Z',
  status: 'made',
  is_begun: false,
  done: 0,
  total: 0,
  bytes: 455_149,
  key: 'ed25519:ce06',
  kept_until: '2027-02-21T06:41:00Z',
  figures: { counted, rate_basis_points: 9_000 },
};
const waiting = { ...made, no: 4, status: 'waiting', is_begun: true, done: 80, total: 203, figures: null, asked_by: 'tor.havik' };
const chain = {
  keys: [{ id: 'ed25519:ce06', public: '', since: '2026-10-30T00:00:00Z' }],
  days: [{ day: '2026-11-22', rows: 14, root: 'aa', digest: 'ff78' }],
};

function answers(evidence: object[], more: Record<string, { status?: number; body: unknown }> = {}) {
  return serve({
    'GET /api/session': { body: session },
    'GET /api/evidence?size=100': { body: evidence },
    'GET /api/evidence-chain': { body: chain },
    ...more,
  });
}

test('evidence shows its question, figures and progress, and what is made is downloaded', async () => {
  answers([waiting, made]);
  show(<EvidencePage />);
  const table = within(await screen.findByRole('table', { name: 'Evidence' }));
  expect(table.getByText('80 of 203 nodes')).toBeTruthy();
  expect(table.getByRole('progressbar', { name: 'E4' }).getAttribute('aria-valuenow')).toBe('39');
  expect(table.getByText('181 of 203')).toBeTruthy();
  expect(table.getByText('90.00 %')).toBeTruthy();
  expect(table.getByRole('link', { name: 'Download 445 KiB' }).getAttribute('href')).toBe('/api/evidence/3/file');
  expect((await table.findAllByRole('button', { name: /remove|stop/ })).length).toBe(1);
  expect(table.getByRole('button', { name: 'remove' })).toBeTruthy();
  expect(await screen.findByText('ff78')).toBeTruthy();
});

test('evidence is asked for with what the page before was about', async () => {
  const asked = answers([], { 'POST /api/evidence': { body: waiting } });
  show(<EvidencePage />, '/compliance/evidence?make=yes&as_of=2026-11-21T23:00:00Z&filter=labels.role == "gate"&control=SK-9');
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.click(dialog.getByRole('checkbox', { name: 'OSCAL' }));
  await userEvent.type(dialog.getByLabelText('Reason'), 'the night of the 21st');
  await userEvent.click(dialog.getByRole('button', { name: 'Make' }));
  await vi.waitFor(() => expect(asked.some(({ path }) => path === 'POST /api/evidence')).toBe(true));
  const body = asked.find(({ path }) => path === 'POST /api/evidence')?.body;
  expect(JSON.parse(body ?? '')).toEqual({
    as_of: '2026-11-21T23:00:00Z',
    as_known_at: null,
    since: null,
    filter: 'labels.role == "gate"',
    controls: ['SK-9'],
    formats: ['html', 'xlsx', 'oscal'],
    because: 'the night of the 21st',
  });
});
