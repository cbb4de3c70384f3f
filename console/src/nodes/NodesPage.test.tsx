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
