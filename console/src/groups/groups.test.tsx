import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { moved } from './AssignmentsCard';
import { editsBetween } from './draft';
import { GroupPage } from './GroupPage';
import { GroupsPage } from './GroupsPage';
import { loadWords } from './SettingsCard';
import { typedValue } from './values';

const idle = 'kiosk-floor/kiosk-lockdown.idle_seconds';
const kiosks: Schemas['Group'] = {
  name: 'kiosks',
  priority: 10,
  filter: 'labels.role == "kiosk"',
  assignments: [
    { kit: 'quay-base', baseline: 'login', severity: 'high' },
    { kit: 'kiosk-floor', baseline: 'kiosk-lockdown' },
  ],
  parameters: { [idle]: 45 },
  settings: { mode: 'enforce', interval_secs: 900 },
};
const members = {
  nodes: 2,
  names: ['kiosk-auken-1', 'kiosk-brisk-1'],
  only_named: [],
  no_nodes: [],
  undecidable: 0,
  undecidable_nodes: [],
  coming: 0,
  coming_names: [],
  going: 0,
  going_names: [],
};
const shown = {
  group: kiosks,
  changed: { no: 112, what: 'set the group kiosks', who: 'tor.havik', because: null, at: '2026-11-24T08:00:00Z' },
  members,
  view: {
    nodes: 2,
    assignments: kiosks.assignments?.map(({ kit, baseline }) => ({
      kit,
      baseline,
      summary: 'What it is for',
      clauses: 14,
      severity: 'medium',
      newest: '1.3.0',
      served: [{ stage: 'open-water', version: '1.3.0', nodes: 2 }],
      also_by: [],
    })),
    parameters: [
      {
        name: idle,
        is_declared: true,
        takes: 'an integer, at least 10',
        note: null,
        default: 90,
        value: 45,
        below: [],
        above: [{ group: 'night-trial', priority: 20, value: 20, words: '20', nodes: 6 }],
      },
    ],
    settings: [
      {
        word: 'mode',
        means: 'whether runs correct',
        takes: '`enforce` or `observe`',
        recommended: 'observe first',
        usual: 'observe',
        value: 'enforce',
        words: 'enforce',
        below: [],
        above: [],
      },
      {
        word: 'grace_secs',
        means: 'how long drift is left',
        takes: '0 to 7776000',
        recommended: '0',
        usual: 'none',
        value: null,
        words: null,
        below: [],
        above: [],
      },
    ],
  },
};
const session = { person: 'ilse.maren', roles: ['administrator'], permissions: ['group.edit', 'change.decide'], server: {}, token: 't' };

function answers(more: Record<string, { status?: number; body: unknown }> = {}, permissions = session.permissions) {
  return serve({
    'GET /api/session': { body: { ...session, permissions } },
    'GET /api/groups/kiosks': { body: shown },
    'GET /api/stages': { body: [{ name: 'open-water', serves: [] }] },
    'GET /api/baselines': { body: [] },
    ...more,
  });
}

function page() {
  show(
    <Routes>
      <Route path="groups/:name" element={<GroupPage />} />
      <Route path="*" element={null} />
    </Routes>,
    '/groups/kiosks',
  );
}

/** A field that may be edited, which is known when the session is. */
async function editable(label: string) {
  const field = (await screen.findByLabelText(label)) as HTMLInputElement;
  await vi.waitFor(() => expect(field.disabled).toBe(false));
  return field;
}

beforeEach(() => sessionStorage.clear());

test('the edits between two groups are single, in words, and nothing else is among them', () => {
  const after: Schemas['Group'] = {
    ...kiosks,
    filter: 'labels.role == "kiosk" && labels.site == "tern"',
    nodes: ['kiosk-lab-1'],
    assignments: [
      { kit: 'kiosk-floor', baseline: 'kiosk-lockdown', on_drift: 'report' },
      { kit: 'quay-base', baseline: 'login', severity: 'high' },
      { kit: 'quay-base', baseline: 'upkeep' },
    ],
    parameters: {},
    settings: { mode: 'enforce', grace_secs: 1800 },
  };
  const edits = editsBetween(kiosks, after);
  expect(edits.map(({ what, before, after }) => [what, before, after])).toEqual([
    ['filter', 'labels.role == "kiosk"', 'labels.role == "kiosk" && labels.site == "tern"'],
    ['named members', '–', 'kiosk-lab-1'],
    ['kiosk-floor/kiosk-lockdown', 'as in the kit', 'drift reported only'],
    ['quay-base/login', 'place 1', 'place 2'],
    ['quay-base/upkeep', 'not assigned', 'assigned'],
    [idle, '45', '–'],
    ['grace_secs', '–', '1800'],
    ['interval_secs', '900', '–'],
  ]);
  expect(edits[2]?.edit).toEqual({ edit: 'assign', kit: 'kiosk-floor', baseline: 'kiosk-lockdown', terms: { on_drift: 'report' }, place: 0 });
  expect(edits[7]?.edit).toEqual({ edit: 'setting', word: 'interval_secs', value: null });
  expect(editsBetween(kiosks, structuredClone(kiosks))).toEqual([]);
});

test('taking away what an assignment sets is sent as null, and unassigning moves nobody', () => {
  const without = editsBetween(kiosks, {
    ...kiosks,
    assignments: [
      { kit: 'quay-base', baseline: 'login' },
      { kit: 'kiosk-floor', baseline: 'kiosk-lockdown' },
    ],
  });
  expect(without.map(({ edit }) => edit)).toEqual([{ edit: 'assign', kit: 'quay-base', baseline: 'login', terms: { severity: null } }]);
  const fewer = editsBetween(kiosks, { ...kiosks, assignments: [{ kit: 'kiosk-floor', baseline: 'kiosk-lockdown' }] });
  expect(fewer.map(({ edit }) => edit)).toEqual([{ edit: 'unassign', kit: 'quay-base', baseline: 'login' }]);
});

test('a setting for a time is one edit with its end, and another value has none', () => {
  const observed = { ...kiosks, settings: { ...kiosks.settings, mode: 'observe' as const }, settings_until: { mode: { until: '2026-11-24T06:00:00Z' } } };
  expect(editsBetween(kiosks, observed)).toEqual([
    {
      edit: { edit: 'setting', word: 'mode', value: 'observe', until: '2026-11-24T06:00:00Z' },
      what: 'mode',
      before: 'enforce',
      after: 'observe until 24 Nov 2026, 06:00:00 UTC',
    },
  ]);
  expect(editsBetween(observed, kiosks).map(({ edit }) => edit)).toEqual([{ edit: 'setting', word: 'mode', value: 'enforce' }]);
});

test('values are read as they are meant', () => {
  expect([typedValue('45', false), typedValue('["A"]', false), typedValue('Quay', false), typedValue('45', true)]).toEqual([45, ['A'], 'Quay', '45']);
  expect(moved(['a', 'b', 'c'], 0, 2)).toEqual(['b', 'c', 'a']);
  expect(moved(['a', 'b', 'c'], 2, -5)).toEqual(['c', 'a', 'b']);
  expect(loadWords('interval_secs', 900, 289)).toBe('about 19 check-ins a minute from 289 nodes');
  expect(loadWords('grace_secs', 900, 289)).toBeUndefined();
});

test('an edit is a draft that survives a reload, is shown with its impact, and is saved', async () => {
  const impact = { nodes: 2, takes: 0, takes_from: 0, settings: 0, clauses: [], clauses_left_out: 0, restarts: [], unusable: [], not_served: [] };
  const change = { no: 119, what: 'set the group kiosks', status: 'unconfirmed' };
  const asked = answers({
    'POST /api/groups/kiosks/edits': { body: { change: 119, previewed: true, impact, nodes: 2, unusable: [] } },
    'GET /api/changes/119': { body: { change, impact, edits: [], nodes: [], typed_from: 10, asks_for_second_person: [] } },
    'POST /api/changes/119/confirm': { body: {} },
  });
  page();
  const field = await editable(idle);
  await userEvent.clear(field);
  await userEvent.type(field, '60{Enter}');
  expect(within(screen.getByRole('table', { name: 'Edits' })).getByRole('row').textContent).toContain('45 → 60');
  expect(sessionStorage.getItem('draft of the group kiosks')).toContain('60');
  await userEvent.click(screen.getByRole('button', { name: 'Show the impact' }));
  await userEvent.click(await screen.findByRole('button', { name: 'Save…' }));
  await userEvent.click(within(screen.getByRole('dialog')).getByRole('button', { name: 'Hand out' }));
  await vi.waitFor(() => expect(screen.getByTestId('address').textContent).toBe('/changes/C119'));
  const body = asked.find(({ path }) => path === 'POST /api/groups/kiosks/edits')?.body;
  expect(JSON.parse(body ?? '')).toEqual({ edits: [{ edit: 'parameter', name: idle, value: 60 }], preview: true });
  expect(sessionStorage.getItem('draft of the group kiosks')).toBeNull();
});

test('another filter shows at once who comes and who goes', async () => {
  answers({
    'POST /api/group-members': {
      body: {
        ...members,
        nodes: 1,
        names: ['kiosk-tern-1'],
        coming: 1,
        coming_names: ['kiosk-tern-1'],
        going: 2,
        going_names: ['kiosk-auken-1', 'kiosk-brisk-1'],
      },
    },
  });
  page();
  const field = await editable('Filter');
  await userEvent.click(field);
  await userEvent.paste(' && labels.site == "tern"');
  expect(await screen.findByText(/Coming, 1 node: kiosk-tern-1 · going, 2 nodes: kiosk-auken-1, kiosk-brisk-1/)).toBeTruthy();
});

test('what another group puts over a value is said with how many nodes that is', async () => {
  answers();
  page();
  expect((await screen.findByText(/put over it by/)).textContent).toBe('20 put over it by night-trial (priority 20), for 6 nodes');
});

test('who may only look sees everything, and every field is disabled', async () => {
  answers({}, ['node.read']);
  page();
  expect(await screen.findByText(/You may look and not edit/)).toBeTruthy();
  expect((screen.getByLabelText(idle) as HTMLInputElement).disabled).toBe(true);
  expect(screen.queryByRole('button', { name: /Unassign/ })).toBeNull();
});

test('the hours of an assignment are edited as times of the week', async () => {
  answers();
  page();
  await userEvent.click(await screen.findByRole('button', { name: 'Hours… of quay-base/login' }));
  const dialog = within(screen.getByRole('dialog', { name: 'When quay-base/login is corrected' }));
  await userEvent.click(dialog.getByRole('button', { name: 'Add a time' }));
  const time = within(dialog.getByRole('group', { name: 'time 1' }));
  await userEvent.click(time.getByRole('button', { name: 'sun' }));
  await userEvent.click(time.getByRole('button', { name: 'sat' }));
  await userEvent.click(dialog.getByRole('button', { name: 'Take over' }));
  const edit = within(await screen.findByRole('table', { name: 'Edits' })).getByRole('row');
  expect(edit.textContent).toContain('corrected only sat sun 22:00–04:00');
  expect(screen.getByText(/^corrected only sat sun 22:00–04:00/)).toBeTruthy();
  const [drafted] = JSON.parse(sessionStorage.getItem('draft of the group kiosks') ?? '').draft.assignments;
  expect(drafted.change_window).toEqual([{ days: ['sat', 'sun'], from: '22:00', until: '04:00' }]);
});

test('a group is made with its name, priority and filter, and a name in use is told', async () => {
  const impact = { nodes: 0, takes: 0, takes_from: 0, settings: 0, clauses: [], clauses_left_out: 0, restarts: [], unusable: [], not_served: [] };
  const asked = serve({
    'GET /api/session': { body: { person: 'ilse.maren', roles: ['administrator'], permissions: ['group.edit'], server: {}, token: 't' } },
    'GET /api/groups': { body: [{ group: kiosks, nodes: 2 }] },
    'POST /api/group-members': { body: members },
    'PUT /api/groups?because=for the trial of the night&preview=true': { body: { change: 120 } },
    'GET /api/changes/120': { body: { change: { no: 120, what: 'make the group night-trial' }, impact, typed_from: 10 } },
  });
  show(<GroupsPage />, '/groups');
  await userEvent.click(await screen.findByRole('button', { name: 'New group…' }));
  const dialog = within(screen.getByRole('dialog', { name: 'New group' }));
  await userEvent.type(dialog.getByLabelText('Name'), 'kiosks');
  expect(dialog.getByText('there is a group of this name already')).toBeTruthy();
  await userEvent.clear(dialog.getByLabelText('Name'));
  await userEvent.type(dialog.getByLabelText('Name'), 'night-trial');
  await userEvent.click(dialog.getByLabelText(/^Filter/));
  await userEvent.paste('labels.trial == "night"');
  expect(await dialog.findByText(/now: kiosk-auken-1, kiosk-brisk-1/)).toBeTruthy();
  await userEvent.type(dialog.getByLabelText('Reason'), 'for the trial of the night');
  await userEvent.click(dialog.getByRole('button', { name: 'Show the impact' }));
  expect(await dialog.findByRole('button', { name: 'Hand out…' })).toBeTruthy();
  const sent = asked.find(({ path }) => path.startsWith('PUT /api/groups'));
  expect(JSON.parse(sent?.body ?? '')).toEqual({ name: 'night-trial', priority: 10, filter: 'labels.trial == "night"', settings: {} });
});
