import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { ControlsPage } from './ControlsPage';

const nodes = { without_deviation: 12, with_deviation: 5, not_known: 1, conceded: 2, with_critical: 5 };
const clauses = { compliant: 12, in_doubt: 0, noncompliant: 5, conceded: 2, unexamined: 0, unknown: 1 };
const none = { without_deviation: 0, with_deviation: 0, not_known: 0, conceded: 0, with_critical: 0 };
const control = {
  id: 'SK-9',
  title: 'Tariffs are the published ones',
  text: 'A gate charges what is published.',
  scope: 'labels.role == "gate"',
  is_heading: false,
  in_scope: 21,
  gaps: 1,
  beyond_scope: 0,
  nodes,
  clauses,
  rate_basis_points: 6_000,
  rate_with_concessions_basis_points: 6_666,
};
const controls = {
  as_of: '2026-11-23T08:12:00Z',
  as_known_at: '2026-11-23T08:12:00Z',
  nodes_in_all: 206,
  version: { no: 2, set_by: 'ilse.maren', from: '2026-11-01T09:00:00Z' },
  controls: [
    { ...control, id: 'SK', title: 'On the quay', is_heading: true, nodes: none },
    control,
    { ...control, id: 'SK-77', title: null, scope: null, in_scope: null, gaps: 0 },
  ],
  assets: { set_by: 'ilse.maren', set: '2026-11-01T09:00:00Z', assets: 3, never_enrolled: 1, not_listed: 2 },
};

test('a control shows its scope, its gaps by name, and why it is not applicable elsewhere', async () => {
  serve({
    'GET /api/controls': { body: controls },
    'GET /api/control-gaps?control=SK-9': { body: { control: 'SK-9', nodes: ['gate-corran-3'], has_more: false } },
    'GET /api/assets?never_enrolled=true': { body: [{ name: 'gate-eldrey-9', fields: { bought: '2019' }, is_enrolled: false }] },
  });
  show(<ControlsPage />);
  const table = within(await screen.findByRole('table', { name: 'Controls' }));
  const row = within(table.getByText('Tariffs are the published ones').closest('tr')!);
  expect(
    row
      .getAllByRole('cell')
      .map((cell) => cell.textContent)
      .slice(1, 7),
  ).toEqual(['21', '12', '5', '1', '2', '1']);
  expect(table.getByText('not in the catalogue')).toBeTruthy();
  await userEvent.click(row.getByRole('button'));
  const link = await table.findByRole('link', { name: 'gate-corran-3' });
  expect(decodeURIComponent(link.getAttribute('href')!)).toBe('/nodes?filter=node.name in ["gate-corran-3"]');
  expect(table.getByText(/not applicable to 185 nodes/)).toBeTruthy();
  expect(screen.getByTestId('address').textContent).toBe('/?control=SK-9');
  expect(screen.getByText(/3 machines, of which 1 never joined; 2 nodes are not in it/)).toBeTruthy();
  expect(screen.getByText('gate-eldrey-9')).toBeTruthy();
});
