import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { StagesCard } from '../kits/StagesCard';
import { SelectedNodes } from '../nodes/SelectedNodes';
import { serve, show } from '../testing';
import { GivenCard } from './GivenCard';
import { NodeActions } from './NodeActions';

const session = (...permissions: string[]) => ({ 'GET /api/session': { body: { person: 'tor.havik', roles: [], permissions, server: {}, token: 't' } } });
const impact = { nodes: 1, settings: 1, takes: 0, takes_from: 0, clauses: [], restarts: [], unusable: [], not_served: [] };
const previewed = {
  'GET /api/changes/118': { body: { change: { no: 118, what: 'something', status: 'previewed' }, impact, typed_from: 3, edits: [], nodes: [] } },
};

beforeEach(() => sessionStorage.clear());

test('a node is given a mode of its own after its impact, and what one may not do is shown with who may', async () => {
  const EDIT = 'POST /api/nodes/kiosk-auken-1/edits';
  const asked = serve({ ...session('group.edit'), ...previewed, [EDIT]: { body: { change: 118 } } });
  show(<NodeActions name="kiosk-auken-1" />);
  await userEvent.click(await screen.findByRole('button', { name: 'Actions' }));
  const revoke = await screen.findByRole('menuitem', { name: /Revoke… for approvers and administrators/ });
  expect(revoke.getAttribute('aria-disabled')).toBe('true');
  await userEvent.click(screen.getByRole('menuitem', { name: 'Mode of its own…' }));
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.click(dialog.getByLabelText('Mode of its own'));
  await userEvent.click(await screen.findByRole('option', { name: 'observe' }));
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  expect(await dialog.findByText(/Other settings of the agent on 1 node/)).toBeTruthy();
  const sent = asked.filter(({ path }) => path === EDIT).map(({ body }) => JSON.parse(body));
  expect(sent).toMatchObject([{ edits: [{ edit: 'setting', word: 'mode', value: 'observe' }], preview: true }]);
  expect(dialog.getByRole('button', { name: 'Hand out…' })).toBeTruthy();
});

test('several nodes are labelled as one change; a label that is none is told and not sent', async () => {
  const asked = serve({ ...session('change.request'), 'POST /api/labels': { body: { change: 118, requested: true } } });
  show(<SelectedNodes names={['kiosk-lab-1', 'kiosk-lab-2']} onNone={() => {}} />);
  expect(await screen.findByText('2 nodes selected')).toBeTruthy();
  await vi.waitFor(() => expect((screen.getByRole('button', { name: 'Label…' }) as HTMLButtonElement).disabled).toBe(false));
  await userEvent.click(screen.getByRole('button', { name: 'Label…' }));
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.type(dialog.getByLabelText('Labels to set'), 'site');
  expect(dialog.getByText(/write site=auken/)).toBeTruthy();
  const request = dialog.getByRole('button', { name: 'Request approval' }) as HTMLButtonElement;
  expect(request.disabled).toBe(true);
  await userEvent.type(dialog.getByLabelText('Labels to set'), '=brisk');
  await userEvent.type(dialog.getByLabelText('Labels to remove, by their keys'), 'lab, spare');
  await userEvent.click(request);
  await vi.waitFor(() => expect(asked.some(({ path }) => path === 'POST /api/labels')).toBe(true));
  const body = JSON.parse(asked.find(({ path }) => path === 'POST /api/labels')?.body ?? '');
  expect(body).toMatchObject({ nodes: ['kiosk-lab-1', 'kiosk-lab-2'], set: { site: 'brisk' }, remove: ['lab', 'spare'], request: true, preview: false });
});

test('what a node is given alone is listed, and one thing of it is taken away', async () => {
  const EDIT = 'POST /api/nodes/kiosk-auken-1/edits';
  const own = { assignments: [{ kit: 'gate-reader', baseline: 'reader' }], parameters: { 'quay-base/login.banner': 'mine' }, settings: { mode: 'observe' } };
  const asked = serve({ ...session('group.edit'), ...previewed, 'GET /api/nodes/kiosk-auken-1/own': { body: own }, [EDIT]: { body: { change: 118 } } });
  show(<GivenCard name="kiosk-auken-1" parameters={[]} clauses={[]} />);
  expect(await screen.findByText('gate-reader/reader')).toBeTruthy();
  expect(screen.getByText('quay-base/login.banner')).toBeTruthy();
  await vi.waitFor(() => expect((screen.getByRole('button', { name: 'take away mode' }) as HTMLButtonElement).disabled).toBe(false));
  await userEvent.click(screen.getByRole('button', { name: 'take away gate-reader/reader' }));
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  await dialog.findByRole('button', { name: 'Hand out…' });
  const sent = asked.filter(({ path }) => path === EDIT).map(({ body }) => JSON.parse(body).edits);
  expect(sent).toEqual([[{ edit: 'unassign', kit: 'gate-reader', baseline: 'reader' }]]);
});

test('one property of one clause is given a value for a time, read as what it is now', async () => {
  const EDIT = 'POST /api/nodes/kiosk-auken-1/edits';
  const own = { properties: { 'file:/etc/motd': { owner: { value: 'root', until: '2026-12-24T00:00:00Z' } } } };
  const asked = serve({
    ...session('group.edit'),
    ...previewed,
    'GET /api/nodes/kiosk-auken-1/own': { body: own },
    'GET /api/baselines': { body: [] },
    [EDIT]: { body: { change: 118 } },
  });
  const clauses = [{ address: 'file:/etc/issue', wanted: { permissions: '0644', content: 's2:0' } }];
  show(<GivenCard name="kiosk-auken-1" parameters={[]} clauses={clauses} />);
  expect(await screen.findByText('file:/etc/motd owner')).toBeTruthy();
  expect(screen.getByText(/root, until/)).toBeTruthy();
  await vi.waitFor(() => expect((screen.getByRole('button', { name: 'Give…' }) as HTMLButtonElement).disabled).toBe(false));
  await userEvent.click(screen.getByRole('button', { name: 'Give…' }));
  const dialog = within(await screen.findByRole('dialog'));
  await userEvent.click(dialog.getByLabelText('What'));
  await userEvent.click(await screen.findByRole('option', { name: 'a property of one clause' }));
  await userEvent.type(dialog.getByLabelText('Clause'), 'file:/etc/issue');
  await userEvent.type(dialog.getByLabelText('Property'), 'permissions');
  expect(dialog.getByText('now 0644')).toBeTruthy();
  await userEvent.type(dialog.getByLabelText('Value, as in a document'), '640');
  await userEvent.type(dialog.getByLabelText('Until (UTC)'), '2026-12-24T00:00');
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  await dialog.findByRole('button', { name: 'Hand out…' });
  const sent = asked.filter(({ path }) => path === EDIT).map(({ body }) => JSON.parse(body).edits);
  expect(sent).toEqual([[{ edit: 'property', clause: 'file:/etc/issue', property: 'permissions', value: '640', until: '2026-12-24T00:00:00Z' }]]);
});

test('a stage is advanced to what an earlier one serves, all at once', async () => {
  const stages = [
    { name: 'harbour', serves: ['quay-base@1.5.0', 'kiosk-floor@1.0.0'], second_person: false },
    { name: 'open-water', serves: ['quay-base@1.4.0', 'kiosk-floor@1.0.0'], second_person: true },
  ];
  const ADVANCE = 'POST /api/stages/open-water/advance';
  const asked = serve({ ...session('stage.serve'), ...previewed, 'GET /api/stages': { body: stages }, [ADVANCE]: { body: { change: 118 } } });
  show(<StagesCard />);
  await screen.findByText('changes need a second person');
  expect(screen.queryByRole('button', { name: 'advance harbour' })).toBeNull();
  await vi.waitFor(() => expect((screen.getByRole('button', { name: 'advance open-water' }) as HTMLButtonElement).disabled).toBe(false));
  await userEvent.click(screen.getByRole('button', { name: 'advance open-water' }));
  const dialog = within(await screen.findByRole('dialog'));
  expect(dialog.getByText('quay-base@1.5.0')).toBeTruthy();
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  await dialog.findByRole('button', { name: 'Hand out…' });
  expect(JSON.parse(asked.find(({ path }) => path === ADVANCE)?.body ?? '')).toMatchObject({ from: 'harbour', kits: [], preview: true });
});
