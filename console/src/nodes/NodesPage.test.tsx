import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { NodesPage } from './NodesPage';

function node(name: string): Schemas['NodeSummary'] {
  return {
    id: name,
    name,
    labels: {},
    about: {},
    last_contact: 'on_time',
    status: 'in_line',
    words: { status: [{ text: 'in line' }], releases: [{ text: 'has quay-base@1.3.0' }], contact: [], problems: [] },
  };
}

const page = (names: string[], next: string | null): Schemas['NodePage'] => ({ nodes: names.map(node), next, total: 250, undecidable: 0 });

test('the server sorts and pages: each page is asked for after the last node of the one before', async () => {
  const asked = serve({
    'GET /api/nodes?size=100&count=true': { body: page(['bridge-1'], 'bridge-1') },
    'GET /api/nodes?size=100&count=true&after=bridge-1': { body: page(['gate-auken-1'], 'gate-auken-1') },
    'GET /api/nodes?size=100&count=true&sort=status': { body: page(['kiosk-auken-1'], null) },
  });
  show(<NodesPage />, '/nodes');
  expect(await screen.findByText('bridge-1')).toBeTruthy();
  expect(screen.getByText('250 nodes')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Go to next page' }));
  expect(await screen.findByText('gate-auken-1')).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Go to previous page' }));
  expect(await screen.findByText('bridge-1')).toBeTruthy();

  await userEvent.click(screen.getByRole('columnheader', { name: 'Status' }));
  expect(await screen.findByText('kiosk-auken-1')).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/nodes?sort=status');
  expect(asked.map(({ path }) => path)).toContain('GET /api/nodes?size=100&count=true&sort=status');
});

test('releases stand in a column, without the word before them', async () => {
  serve({ 'GET /api/nodes?size=100&count=true': { body: { ...page(['bridge-1'], null), total: 1 } } });
  show(<NodesPage />, '/nodes');
  expect(await screen.findByText('quay-base@1.3.0')).toBeTruthy();
  expect(screen.getByText('1 node')).toBeTruthy();
});

test('columns are chosen and stay so, and the whole list is saved as CSV with those that are shown', async () => {
  const about = { 'os.name': 'debian', 'os.version': '12' } as Schemas['NodeSummary']['about'];
  const nodes = [{ ...node('bridge-1'), about, labels: { site: 'auken' } }, node('gate-auken-1')];
  serve({
    'GET /api/nodes?size=100&count=true': { body: { nodes, next: null, total: 2, undecidable: 0 } },
    'GET /api/nodes?size=1000': { body: { nodes: nodes.slice(0, 1), next: 'bridge-1', undecidable: 0 } },
    'GET /api/nodes?size=1000&after=bridge-1': { body: { nodes: nodes.slice(1), next: null, undecidable: 0 } },
  });
  let saved: Blob | undefined;
  vi.spyOn(URL, 'createObjectURL').mockImplementation((blob) => {
    saved = blob as Blob;
    return 'blob:saved';
  });
  const first = show(<NodesPage />, '/nodes');
  expect(await screen.findByText('bridge-1')).toBeTruthy();
  expect(screen.queryByRole('columnheader', { name: 'System' })).toBeNull();
  await userEvent.click(screen.getByRole('button', { name: 'Columns' }));
  for (const field of ['System', 'Releases', 'Last full run', 'Last contact', 'Problems', 'Stage', 'Mode']) {
    await userEvent.click(screen.getByRole('menuitemcheckbox', { name: field }));
  }
  await userEvent.keyboard('{Escape}');
  await userEvent.click(screen.getByRole('button', { name: 'CSV' }));
  await vi.waitFor(() => expect(saved).toBeTruthy());
  expect(await saved?.text()).toBe('Node,Status,System,Labels\r\nbridge-1,in line,debian 12,site=auken\r\ngate-auken-1,in line,,\r\n');
  first.unmount();
  show(<NodesPage />, '/nodes');
  expect(await screen.findByRole('columnheader', { name: 'System' })).toBeTruthy();
  localStorage.clear();
});

test('a node is acted on from its row', async () => {
  serve({
    'GET /api/nodes?size=100&count=true': { body: { ...page(['bridge-1'], null), total: 1 } },
    'GET /api/session': { body: { person: 'ilse.maren', roles: ['approver'], permissions: ['node.edit'], server: {} } },
  });
  show(<NodesPage />, '/nodes');
  await userEvent.click(await screen.findByRole('button', { name: '… actions of bridge-1' }));
  await vi.waitFor(() => expect(screen.getByRole('menuitem', { name: 'Rename…' }).getAttribute('aria-disabled')).toBeNull());
  expect(screen.getByRole('menuitem', { name: /^Freeze… for operators/ }).getAttribute('aria-disabled')).toBe('true');
  await userEvent.click(screen.getByRole('menuitem', { name: 'Rename…' }));
  expect(await screen.findByRole('dialog', { name: /bridge-1/ })).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/nodes');
});
