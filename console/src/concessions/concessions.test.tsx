import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { ConcessionsPage } from './ConcessionsPage';

const session = { person: 'tor.havik', roles: ['approver'], permissions: ['concession.ask', 'concession.decide'], server: {}, token: 't' };
const concession = {
  no: 3,
  status: 'asked',
  clauses: ['file:/etc/kiosk/shell.conf'],
  unknown_clauses: [],
  filter: null,
  nodes: ['kiosk-auken-1', 'kiosk-brisk-2'],
  covers_unknown: false,
  asked: { who: 'ilse.maren', at: '2026-11-23T06:40:00Z', because: 'the old screens stay' },
  until: '2026-12-04T06:00:00Z',
  coverage: { nodes: 2, clauses: 2, noncompliant: 2, nodes_noncompliant: 2, to_correct: 1 },
};

function answers(over: object, more: Record<string, { status?: number; body: unknown }> = {}) {
  return serve({ 'GET /api/session': { body: session }, 'GET /api/concessions?also_over=false&size=100': { body: [{ ...concession, ...over }] }, ...more });
}

test('another person approves a concession, with a freeze unless it is left out', async () => {
  const asked = answers({}, { 'POST /api/concessions/3/approve': { body: { ...concession, status: 'in_force' } } });
  show(<ConcessionsPage />);
  const table = within(await screen.findByRole('table', { name: 'Concessions' }));
  expect(table.getByText(/asked for by ilse.maren/).textContent).toContain('“the old screens stay”');
  expect(table.getByText('2 on 2 nodes deviate now')).toBeTruthy();
  await userEvent.click(await table.findByRole('button', { name: 'approve…' }));
  await userEvent.click(within(screen.getByRole('dialog')).getByRole('button', { name: 'approve' }));
  await vi.waitFor(() => expect(asked.some(({ path }) => path === 'POST /api/concessions/3/approve')).toBe(true));
  const body = asked.find(({ path }) => path === 'POST /api/concessions/3/approve')?.body;
  expect(JSON.parse(body ?? '')).toEqual({ without_freeze: false, because: null });
});

test('who asked for a concession is offered to withdraw it, and nothing else', async () => {
  answers({ asked: { ...concession.asked, who: 'tor.havik' } });
  show(<ConcessionsPage />);
  expect(await screen.findByRole('button', { name: 'withdraw…' })).toBeTruthy();
  expect(screen.queryByRole('button', { name: 'approve…' })).toBeNull();
  expect(screen.queryByRole('button', { name: 'refuse…' })).toBeNull();
});

test('what a concession would cover is shown before it is asked for', async () => {
  const asked = answers({}, { 'POST /api/concessions': { body: { ...concession, no: 0 } } });
  show(<ConcessionsPage />, '/compliance/concessions?ask=&node=kiosk-auken-1&clause=file:/etc/kiosk/shell.conf');
  const dialog = within(await screen.findByRole('dialog'));
  expect(dialog.getByDisplayValue('node.name == "kiosk-auken-1"')).toBeTruthy();
  await userEvent.type(dialog.getByLabelText('Reason'), 'rebuilt');
  await userEvent.click(dialog.getByRole('button', { name: 'Show what it covers' }));
  expect(await dialog.findByText(/It would cover 2 clauses on 2 nodes; 2 on 2 nodes deviate now/)).toBeTruthy();
  await userEvent.click(dialog.getByRole('button', { name: 'Ask' }));
  const previews = () => asked.filter(({ path }) => path === 'POST /api/concessions').map(({ body }) => JSON.parse(body).preview);
  await vi.waitFor(() => expect(previews()).toEqual([true, false]));
});
