import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { ServerPage } from './ServerPage';

const status = {
  now: '2026-11-23T07:00:00Z',
  version: '0.1.0',
  started_at: '2026-11-20T07:00:00Z',
  expected_nodes: 1000,
  nodes: 208,
  recovering_since: null,
  parts: [
    { name: 'postgresql', found: 'fsync is off', remedy: 'set it to on' },
    { name: 'database', found: 'answers in 1.2 ms', remedy: null },
  ],
  certificates: [
    { shown_to: 'agents', ends_at: '2027-05-29T18:00:00Z', problem: null },
    { shown_to: 'people', ends_at: '2026-11-25T18:00:00Z', problem: 'the certificate for people ends in 2 days' },
  ],
  agents: [
    { version: '0.1.0', nodes: 200 },
    { version: '0.0.9', nodes: 7 },
    { version: null, nodes: 1 },
  ],
  packages: [
    {
      version: '0.1.0',
      format: 'deb',
      architecture: 'amd64',
      glibc: '2.36',
      bytes: 3_000_000,
      sha256: 'aa',
      added_by: 'ilse.maren',
      added_at: '2026-11-20T07:00:00Z',
    },
    {
      version: '0.0.8',
      format: 'rpm',
      architecture: 'x86_64',
      glibc: '2.34',
      bytes: 3_000_000,
      sha256: 'bb',
      added_by: 'ilse.maren',
      added_at: '2026-11-20T07:00:00Z',
    },
  ],
};
const session = (permissions: string[]) => ({ person: 'ilse.maren', roles: [], permissions, server: {}, token: 't' });
const entry = { id: 7, at_micros: 0, who: 'tor.havik', did: 'approved', subject: 'kiosk-lab-1', detail: {} };
const person = { name: 'tor.havik', roles: ['approver'], made_at: '2026-11-01T07:00:00Z', has_password: true, sessions: 1, tokens: 2, last_at: null };

test('a problem comes with what to do, and versions with the packages that are served', async () => {
  serve({ 'GET /api/server-status': { body: status }, 'GET /api/session': { body: session([]) } });
  show(<ServerPage />);
  expect(await screen.findByText('2 problems.')).toBeTruthy();
  const row = (table: string, name: RegExp) => within(screen.getByRole('table', { name: table })).getByRole('row', { name });
  expect(row('Parts', /postgresql/).textContent).toContain('problem: fsync is offWhat to do: set it to on');
  expect(row('Parts', /database/).textContent).not.toContain('problem');
  expect(row('Certificates', /people/).textContent).toContain('ends in 2 days');
  expect(row('Agents', /^0\.1\.0/).textContent).toBe('0.1.0200.deb amd64');
  expect(row('Agents', /^0\.0\.9/).textContent).toBe('0.0.97–');
  expect(row('Agents', /^0\.0\.8/).textContent).toBe('0.0.80.rpm x86_64');
  expect(row('Agents', /never checked in/).textContent).toBe('never checked in1–');
});

test('people, tokens and the audit trail are for those who may; others are told who that is', async () => {
  serve({ 'GET /api/server-status': { body: status }, 'GET /api/session': { body: session([]) } });
  show(<ServerPage />);
  expect((await screen.findAllByText('Only an administrator sees this.')).length).toBe(2);
  expect(screen.queryByRole('button', { name: 'Verify' })).toBeNull();
});

test('the chain of the audit trail is recomputed when it is asked for', async () => {
  serve({
    'GET /api/server-status': { body: status },
    'GET /api/session': { body: session(['people.manage', 'audit.read']) },
    'GET /api/people?size=100': { body: [person] },
    'GET /api/tokens?size=100': { body: [] },
    'GET /api/audit?size=100': { body: [{ entry, at: '2026-11-23T06:59:00Z', digest: null }] },
    'GET /api/audit/verify': { body: { entries: 41, unchained: 1, last: 'd1ge57', broken_at: 12 } },
  });
  show(<ServerPage />);
  expect(await screen.findByText('kiosk-lab-1')).toBeTruthy();
  expect(within(screen.getByRole('table', { name: 'People' })).getByRole('row', { name: /tor\.havik/ }).textContent).toContain('approver');
  await userEvent.click(screen.getByRole('button', { name: 'Verify' }));
  expect(await screen.findByText('Entry 12 was altered, removed or moved.')).toBeTruthy();
});
