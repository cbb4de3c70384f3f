import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { labelText, typedLabels } from './joiningWords';
import { RequestsPage } from './RequestsPage';
import { RulesPage } from './RulesPage';

const session = { person: 'tor.havik', roles: ['approver'], permissions: ['join.approve', 'join.invite'], server: {}, token: 't' };
const request = (id: string, name: string, over: object = {}) => ({
  id,
  name,
  fingerprint: '4c1f92aa'.repeat(8),
  requested_at: '2026-11-23T06:40:00Z',
  address: '192.0.2.31',
  invitation: 'i1',
  invited_by: 'ilse.maren',
  labels: { role: 'kiosk' },
  about: { 'os.name': 'debian', 'os.version': '12' },
  ...over,
});
const waiting = [
  request('r1', 'kiosk-lab-1'),
  request('r2', 'kiosk-lab-2', { rule_waits: { rule: 3, because: 'refused_before' } }),
  request('r3', 'gate-auken-1', { name_used_by: { joined_at: '2026-11-01T08:00:00Z', fingerprint: '77aa', last_contact: null } }),
];
const node = (name: string) => ({
  name,
  fingerprint: '4c1f92aa'.repeat(8),
  was_known: false,
  labels: { role: 'kiosk', site: 'auken' },
  groups: ['everyone', 'kiosks'],
  stage: 'open-water',
  mode: 'observe',
  clauses: 19,
});
const LIST = 'GET /api/joining-requests?only=waiting&size=100';
const APPROVE = 'POST /api/joining-requests/approve';

function requests(more: Record<string, { status?: number; body: unknown }> = {}, permissions = session.permissions) {
  return serve({
    'GET /api/session': { body: { ...session, permissions } },
    [LIST]: { body: waiting },
    'GET /api/groups': { body: [{ group: { name: 'night-trial' }, nodes: 2 }] },
    'GET /api/baselines': { body: [] },
    ...more,
  });
}

beforeEach(() => sessionStorage.clear());

test('machines are chosen by a filter, placed in one form that shows what they would be, and approved together', async () => {
  const labs = `${LIST}&filter=request.name.startsWith("kiosk-lab-")`;
  const asked = requests({ [APPROVE]: { body: { nodes: [node('kiosk-lab-1'), node('kiosk-lab-2')] } }, [labs]: { body: waiting.slice(0, 2) } });
  show(<RequestsPage />, '/joining');
  const table = () => within(screen.getByRole('table', { name: 'Joining requests' }));
  await screen.findByText('kiosk-lab-1');
  expect(table().getByText(/fits the rule A3, but was refused before/)).toBeTruthy();
  expect(table().getByText(/the name is in use/).textContent).toContain('never checked in');
  await userEvent.type(screen.getByLabelText('Filter of Joining requests'), 'request.name.startsWith("kiosk-lab-"){Enter}');
  await vi.waitFor(() => expect(table().queryByText('gate-auken-1')).toBeNull());
  await userEvent.click(await screen.findByLabelText('select all'));
  await userEvent.click(screen.getByRole('button', { name: 'Approve…' }));
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.type(dialog.getByLabelText(/Labels/), 'site=auken');
  await userEvent.clear(dialog.getByLabelText('name of kiosk-lab-2'));
  await userEvent.type(dialog.getByLabelText('name of kiosk-lab-2'), 'kiosk-lab-9');
  expect((await dialog.findAllByText('19 clauses')).length).toBe(2);
  expect(sessionStorage.getItem('placement of joining machines')).toContain('site=auken');
  await userEvent.click(dialog.getByRole('button', { name: 'Approve 2 machines' }));
  expect(await screen.findByText(/2 machines are approved/)).toBeTruthy();
  const sent = asked.filter(({ path }) => path === APPROVE).map(({ body }) => JSON.parse(body));
  const done = sent.filter(({ preview }) => !preview);
  expect([done.length, sent.at(-1)?.preview]).toEqual([1, false]);
  expect(done[0]).toEqual({
    requests: [{ id: 'r1' }, { id: 'r2', name: 'kiosk-lab-9' }],
    placement: { labels: { site: 'auken' }, groups: [], assignments: [] },
    preview: false,
  });
  expect(sessionStorage.getItem('placement of joining machines')).toBeNull();
});

test('why requests cannot be approved is said before, and nothing can be sent', async () => {
  requests({ [APPROVE]: { status: 409, body: { type: 'conflict', title: 'the name gate-auken-1 is in use', status: 409, hint: 'give it another name' } } });
  show(<RequestsPage />, '/joining');
  await userEvent.click(await screen.findByLabelText('select gate-auken-1'));
  await userEvent.click(screen.getByRole('button', { name: 'Approve…' }));
  const dialog = within(await screen.findByRole('dialog'));
  expect((await dialog.findByRole('alert')).textContent).toContain('the name gate-auken-1 is in use');
  expect((dialog.getByRole('button', { name: 'Approve 1 machine' }) as HTMLButtonElement).disabled).toBe(true);
  expect(dialog.getByText(/it is the node gate-auken-1 on a new machine/)).toBeTruthy();
});

test('who may not decide sees who may', async () => {
  requests({}, []);
  show(<RequestsPage />, '/joining');
  expect(await screen.findByText('Approving and denying is for approvers and administrators.')).toBeTruthy();
  expect((screen.getByLabelText('select kiosk-lab-1') as HTMLInputElement).disabled).toBe(true);
});

test('a rule shows whom it would let in, and that it is wide, before it is made', async () => {
  const MAKE = 'POST /api/admission-rules';
  const outcome = {
    no: null,
    warnings: ['names are what machines claim'],
    waiting: [
      { request: 'r1', name: 'kiosk-lab-1', fingerprint: '', waits_because: null },
      { request: 'r2', name: 'kiosk-lab-2', fingerprint: '', waits_because: 'refused_before' },
    ],
    known: ['kiosk-auken-1'],
  };
  const asked = requests({
    'GET /api/admission-rules': { body: [] },
    'GET /api/invitations': { body: [] },
    [MAKE]: { body: outcome },
  });
  show(<RulesPage />, '/joining/rules?make=yes');
  const dialog = within(await screen.findByRole('dialog'));
  expect((dialog.getByRole('button', { name: 'Make the rule' }) as HTMLButtonElement).disabled).toBe(true);
  await userEvent.type(dialog.getByLabelText('Its name is, or fits'), 'kiosk-*');
  expect(await dialog.findByText(/It is wide: names are what machines claim/)).toBeTruthy();
  const said = dialog.getByText(/At once it lets in 1 waiting machine: kiosk-lab-1/).textContent;
  expect(said).toContain('kiosk-lab-2 was refused before under this name or key');
  expect(said).toContain('1 known node would be let in again');
  await userEvent.type(dialog.getByLabelText('Reason'), 'the lab');
  await userEvent.click(dialog.getByRole('button', { name: 'Make the rule' }));
  const sent = () => asked.filter(({ path }) => path === MAKE).map(({ body }) => JSON.parse(body));
  await vi.waitFor(() => expect(sent().at(-1)?.preview).toBe(false));
  expect(sent().at(-1)).toMatchObject({ rule: { names: ['kiosk-*'], keys: [] }, for_secs: 86_400, because: 'the lab' });
});

test('labels are typed as they are shown', () => {
  const labels = { site: 'auken', pier: '2, outer', note: 'a "b"' };
  expect(typedLabels(labelText(labels))).toEqual({ labels });
  expect(typedLabels('site').wrong).toContain('write site=auken');
  expect(typedLabels('  ')).toEqual({ labels: {} });
});
