import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { FleetPage } from './FleetPage';

const fleet: Schemas['Fleet'] = {
  now: '2026-11-23T07:42:10Z',
  total: 2,
  shown: 2,
  undecidable: 0,
  signs: [
    { sign: 'drift_found', nodes: 1 },
    { sign: 'in_line', nodes: 1 },
  ],
  ticks: [
    { name: 'gate-auken-1', sign: 'drift_found', late: false },
    { name: 'kiosk-auken-1', sign: 'in_line', late: true },
  ],
  attention: [
    {
      sign: 'drift_found',
      title: 'gate-auken-1: file:/etc/gate/tariffs.csv drifted',
      detail: 'the clause says on_drift = "tell"',
      since: '2026-11-23T02:10:00Z',
      address: 'file:/etc/gate/tariffs.csv',
      nodes: ['gate-auken-1'],
    },
  ],
  stages: [{ name: 'harbour', serves: [] }],
  lately: [],
  joining: 1,
  recovering_since: null,
  server_problems: [],
};

test('a trouble is one sentence that leads to its cause, and a sign to the list of just those nodes', async () => {
  serve({ 'GET /api/fleet': { body: fleet } });
  show(<FleetPage />);
  const cause = await screen.findByRole('link', { name: 'gate-auken-1: file:/etc/gate/tariffs.csv drifted' });
  expect(decodeURIComponent(cause.getAttribute('href')!)).toBe('/nodes/gate-auken-1?clause=file:/etc/gate/tariffs.csv');
  const drifted = screen.getByRole('link', { name: '1 drift found' });
  expect(decodeURIComponent(drifted.getAttribute('href')!)).toBe('/nodes?filter=node.sign == "drift_found"');
  expect(screen.getByText('constans join list')).toBeTruthy();
});

test('the ribbon is walked by arrows, and Enter opens the node', async () => {
  serve({ 'GET /api/fleet': { body: fleet } });
  show(<FleetPage />);
  const ribbon = await screen.findByRole('listbox', { name: '2 nodes by sign, the worst first' });
  ribbon.focus();
  await userEvent.keyboard('{ArrowRight}{Enter}');
  expect(screen.getByTestId('address').textContent).toBe('/nodes/kiosk-auken-1');
});

test('an empty fleet says what to do next with the command', async () => {
  serve({ 'GET /api/fleet': { body: { ...fleet, total: 0, shown: 0, signs: [], ticks: [], attention: [], joining: 0 } } });
  show(<FleetPage />);
  expect((await screen.findByText(/constans invite/)).textContent).toContain('constans join approve NAME');
});

test('a failure says what failed', async () => {
  serve({ 'GET /api/fleet': { status: 503, body: { type: 'database', title: 'the database does not answer as it should', status: 503, hint: 'try again' } } });
  show(<FleetPage />);
  expect((await screen.findByRole('alert')).textContent).toBe('the database does not answer as it should: try again');
});
