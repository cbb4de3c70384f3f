import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { lists, type Schemas } from '../api/client';
import { InvitationsPage } from '../joining/InvitationsPage';
import { serve, show } from '../testing';
import { ListView } from './ListView';
import type { Column } from './RecordTable';
import { useList } from './useList';

const change = (no: number, who: string) => ({ no, what: `change ${no}`, who, nodes: no, status: 'handed_out', drafted: '2026-11-23T06:40:00Z' });
const FIRST = 'GET /api/changes?size=100';
const link = (after: string) => `</api/changes?size=100&after=${after}>; rel="next"`;

const COLUMNS: Column<Schemas['ChangeSummary']>[] = [
  { field: 'no', head: 'Change', text: ({ no }) => `C${no}` },
  { field: 'who', head: 'Who', text: ({ who }) => who },
  { field: 'progress', head: 'Progress', text: ({ status }) => status, isHiddenFirst: true },
];

function Changes() {
  const list = useList('change', lists.changes, { key: ['changes'] });
  return (
    <ListView
      label="Changes"
      nouns={['change', 'changes']}
      list={list}
      columns={COLUMNS}
      keyOf={({ no }) => String(no)}
      example={'change.who == "ilse.maren"'}
      empty="No changes yet."
    />
  );
}

const rows = () =>
  within(screen.getByRole('table', { name: 'Changes' }))
    .getAllByRole('row')
    .slice(1);

beforeEach(() => localStorage.clear());

test('the server pages and sorts: each page is asked for after the last entry of the one before', async () => {
  serve({
    [FIRST]: { body: Array.from({ length: 100 }, (_, at) => change(102 - at, 'ilse.maren')), link: link('p2') },
    [`${FIRST}&after=p2`]: { body: [change(2, 'tor.havik')] },
    [`${FIRST}&sort=who`]: { body: [change(1, 'aron.feld')] },
    [`${FIRST}&sort=-who`]: { body: [change(9, 'tor.havik')] },
  });
  show(<Changes />, '/changes');
  expect(await screen.findByText('1 to 100, more follow')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Next page' }));
  expect(await screen.findByText('C2')).toBeTruthy();
  expect(screen.getByText('101 to 101')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Previous page' }));
  expect(await screen.findByText('C3')).toBeTruthy();

  expect(screen.queryByRole('button', { name: 'Progress' })).toBeNull();
  for (const [shown, address] of [
    ['C1', '/changes?sort=who'],
    ['C9', '/changes?sort=-who'],
    ['C3', '/changes'],
  ] as const) {
    await userEvent.click(screen.getByRole('button', { name: 'Who' }));
    expect(await screen.findByText(shown)).toBeTruthy();
    expect(screen.getByTestId('address').textContent).toBe(address);
  }
});

test('a filter is completed by the fields of the list and the texts of its entries, and what is wrong with one is said below it', async () => {
  const refused = { type: 'filter', title: '`change.woh` is not known (at `change.woh`)', status: 422, hint: 'did you mean `change.who`?' };
  serve({
    [FIRST]: { body: [change(3, 'ilse.maren'), change(2, 'tor.havik')] },
    [`${FIRST}&filter=change.who == "tor.havik"`]: { body: [change(2, 'tor.havik')] },
    [`${FIRST}&filter=change.woh`]: { status: 422, body: refused },
    [`${FIRST}&filter=change.no < 0`]: { body: [] },
  });
  show(<Changes />, '/changes');
  expect(await screen.findByText('2 changes')).toBeTruthy();
  const field = screen.getByLabelText('Filter of Changes');
  await userEvent.type(field, 'ange.who{Tab} == "to{Tab}"{Enter}');
  await vi.waitFor(() => expect(rows().length).toBe(1));
  expect(screen.getByTestId('address').textContent?.replaceAll('+', ' ')).toBe('/changes?filter=change.who == "tor.havik"');

  await userEvent.clear(field);
  await userEvent.type(field, 'change.woh{Enter}');
  expect((await screen.findByRole('alert')).textContent).toContain('did you mean `change.who`?');
  expect(screen.queryByRole('progressbar')).toBeNull();

  await userEvent.clear(field);
  await userEvent.type(field, 'change.no < 0{Enter}');
  expect(await screen.findByText('Nothing matches the filter. Relax it to see more.')).toBeTruthy();
});

test('where few entries match, a page is filled by what the server finds further on', async () => {
  serve({
    [FIRST]: { body: [], link: link('p2') },
    [`${FIRST}&after=p2`]: { body: [change(7, 'ilse.maren')], link: link('p3') },
    'GET /api/changes?size=99&after=p3': { body: [change(4, 'ilse.maren')] },
  });
  show(<Changes />, '/changes');
  expect(await screen.findByText('C4')).toBeTruthy();
  expect(screen.getByText('C7')).toBeTruthy();
  expect(screen.getByText('2 changes')).toBeTruthy();
});

test('the whole list is saved as CSV, all its pages, with the columns that are shown', async () => {
  serve({
    [FIRST]: { body: [change(3, 'ilse.maren')] },
    'GET /api/changes?size=1000': { body: [change(3, 'ilse.maren')], link: link('p2') },
    'GET /api/changes?size=1000&after=p2': { body: [change(2, '=tor.havik')] },
  });
  let saved: Blob | undefined;
  vi.spyOn(URL, 'createObjectURL').mockImplementation((blob) => {
    saved = blob as Blob;
    return 'blob:saved';
  });
  show(<Changes />, '/changes');
  await screen.findByText('C3');
  await userEvent.click(screen.getByRole('button', { name: 'Columns' }));
  await userEvent.click(screen.getByRole('menuitemcheckbox', { name: 'Progress' }));
  await userEvent.keyboard('{Escape}');
  await userEvent.click(screen.getByRole('button', { name: 'CSV' }));
  await vi.waitFor(() => expect(saved).toBeTruthy());
  expect(await saved?.text()).toBe("Change,Who,Progress\r\nC3,ilse.maren,handed_out\r\nC2,'=tor.havik,handed_out\r\n");
});

test('what is done with several is told with those on which it failed, and why', async () => {
  const invitation = (id: string) => ({
    id,
    labels: {},
    uses: 1,
    uses_left: 1,
    made_by: 'ilse.maren',
    made_at: '2026-11-23T06:40:00Z',
    expires_at: '2026-11-24T06:40:00Z',
  });
  const asked = serve({
    'GET /api/session': { body: { person: 'ilse.maren', roles: [], permissions: ['join.invite'], server: {} } },
    'GET /api/invitations?size=100': { body: [invitation('i1'), invitation('i2')] },
    'DELETE /api/invitations/i1': { status: 404, body: { type: 'missing', title: 'there is no open invitation `i1`', status: 404 } },
    'DELETE /api/invitations/i2': { body: true },
  });
  show(<InvitationsPage />, '/joining/invitations');
  await userEvent.click(await screen.findByLabelText('select all'));
  expect(screen.getByText('2 invitations selected')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Withdraw them' }));
  const told = await screen.findByText(/1 invitation withdrawn, 1 not:/);
  expect(told.textContent).toContain('i1: there is no open invitation `i1`');
  expect(asked.filter(({ path }) => path.startsWith('DELETE')).length).toBe(2);
  expect(screen.queryByRole('toolbar')).toBeNull();
});
