import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Schemas } from '../api/client';
import { NodeActions } from '../node/NodeActions';
import { serve, show } from '../testing';
import { EndFreezeDialog } from './FreezeDialog';
import { FreezeLine } from './FreezeLine';
import { FreezesPage } from './FreezesPage';
import { ModeLine } from './ModeLine';

const LIST = 'GET /api/freezes?also_over=false';
const until = new Date(Date.now() + 3_600_000).toISOString();
const freeze = {
  no: 7,
  who: 'tor.havik',
  because: 'the pier is rebuilt',
  set: '2026-11-23T06:40:00Z',
  until,
  ended: null,
  ended_by: null,
  is_for_all: false,
  nodes: ['kiosk-auken-1', 'kiosk-brisk-1'],
  clauses: ['file:/etc/kiosk/*'],
  unknown_clauses: [],
  of: 2,
  held_by: 1,
  last_by: '2026-11-23T06:50:00Z',
};
const session = (permissions: string[]) => ({
  'GET /api/session': { body: { person: 'pia.lund', roles: ['operator'], permissions, server: {}, token: 't' } },
});

test('every page says which freezes are in force, in a sentence or by number', async () => {
  serve({ [LIST]: { body: [freeze] } });
  const { unmount } = show(<FreezeLine />);
  expect((await screen.findByRole('status', { name: 'Freezes in force' })).textContent).toMatch(
    /^F7, tor\.havik: nothing is corrected of file:\/etc\/kiosk\/\* on kiosk-auken-1, kiosk-brisk-1 until .*: “the pier is rebuilt” See freezes$/,
  );
  unmount();
  serve({ [LIST]: { body: [freeze, { ...freeze, no: 6, is_for_all: true }] } });
  show(<FreezeLine />);
  expect((await screen.findByRole('status', { name: 'Freezes in force' })).textContent).toBe(
    '2 freezes are in force: F7 of kiosk-auken-1, kiosk-brisk-1; F6 of all nodes See freezes',
  );
});

test('a freeze of some nodes is told where they are shown, one of all nodes everywhere', async () => {
  const all = { ...freeze, no: 6, is_for_all: true };
  for (const [address, shown] of [
    ['/nodes/kiosk-auken-1/runs/r1', /^2 freezes/],
    ['/nodes/gate-auken-1', /^F6/],
    ['/drift', /^2 freezes/],
    ['/kits/kiosk-floor/2.0.0', /^F6/],
  ] as const) {
    serve({ [LIST]: { body: [freeze, all] } });
    const { unmount } = show(<FreezeLine />, address);
    expect((await screen.findByRole('status', { name: 'Freezes in force' })).textContent).toMatch(shown);
    unmount();
  }
});

test('a mode for a time is told on the pages of its nodes, with who, why and until when', async () => {
  const change = { no: 118, what: '', who: 'tor.havik', because: 'the pier is rebuilt', at: '2026-11-23T06:40:00Z' };
  const mode = { group: 'kiosks', word: 'mode', value: 'observe', until: '2026-11-24T06:00:00Z', nodes: 41, change };
  const others = [
    { ...mode, group: undefined, node: 'till-auken-1', nodes: 1 },
    { ...mode, word: 'grace_secs' },
  ];
  const node = (name: string, groups: string[]) => ({ [`GET /api/nodes/${name}`]: { body: { name, groups } } });
  const answers = { 'GET /api/temporary-settings': { body: [mode, ...others] }, ...node('kiosk-auken-1', ['everyone', 'kiosks']), ...node('gate-auken-1', []) };
  const first = 'Mode observe until 24 Nov 2026, 06:00:00 UTC for the group kiosks, 41 nodes: “the pier is rebuilt”, tor.havik, C118';
  for (const [address, told] of [
    ['/drift', 2],
    ['/nodes/kiosk-auken-1', 1],
    ['/nodes/gate-auken-1', 0],
    ['/groups/kiosks', 1],
    ['/joining', 0],
  ] as const) {
    const asked = serve(answers);
    const { unmount } = show(<ModeLine />, address);
    await vi.waitFor(() => expect(asked.length).toBe(address.startsWith('/nodes/') ? 2 : 1));
    await vi.waitFor(() => expect(screen.queryAllByText(/^Mode observe/).length).toBe(told));
    if (told > 0) expect(screen.getAllByText(/^Mode observe/)[0]?.textContent).toBe(first);
    unmount();
  }
});

test('a freeze is listed with who holds it, and ended with a reason', async () => {
  const END = 'POST /api/freezes/7/end';
  const asked = serve({ ...session(['freeze.set']), [`${LIST}&size=100`]: { body: [freeze] }, [END]: { body: freeze } });
  show(<FreezesPage />);
  const row = within((await within(await screen.findByRole('table', { name: 'Freezes' })).findByText('F7')).closest('tr')!);
  expect(row.getByText('held by 1 of 2, the last by 23 Nov 2026, 06:50:00 UTC')).toBeTruthy();
  await userEvent.click(row.getByRole('button', { name: 'End… F7' }));
  const dialog = within(screen.getByRole('dialog', { name: 'End F7?' }));
  await userEvent.type(dialog.getByLabelText('Reason'), 'rebuilt');
  await userEvent.click(dialog.getByRole('button', { name: 'End it' }));
  await vi.waitFor(() => expect(asked.find(({ path }) => path === END)?.body).toBe('{"because":"rebuilt"}'));
});

test('what was typed in a dialog survives a reload, and is dropped with the dialog', async () => {
  const KEPT = 'End F7? because';
  sessionStorage.setItem(KEPT, '"rebuilt in a'); // What a broken store holds is not taken for a draft.
  const close = vi.fn();
  const open = () => show(<EndFreezeDialog freeze={freeze as Schemas['FreezeShown']} onClose={close} />);
  serve({});
  const first = open();
  expect(screen.getByLabelText<HTMLInputElement>('Reason').value).toBe('');
  await userEvent.type(screen.getByLabelText('Reason'), 'rebuilt');
  const stored = sessionStorage.getItem(KEPT) ?? '';
  first.unmount();
  expect(sessionStorage.getItem(KEPT), 'closed').toBeNull();
  sessionStorage.setItem(KEPT, stored); // A reload closes nothing.
  open();
  expect(screen.getByLabelText<HTMLInputElement>('Reason').value).toBe('rebuilt');
});

test('a node is frozen from its actions, and who may not is told who may', async () => {
  const SET = 'POST /api/freezes';
  const asked = serve({ ...session(['freeze.set']), [SET]: { body: freeze } });
  show(<NodeActions name="kiosk-auken-1" />);
  await userEvent.click(screen.getByRole('button', { name: 'Actions' }));
  await vi.waitFor(() => expect(screen.getByRole('menuitem', { name: 'Freeze…' }).getAttribute('aria-disabled')).toBeNull());
  expect(screen.getByRole('menuitem', { name: /^Revoke… for approvers/ }).getAttribute('aria-disabled')).toBe('true');
  await userEvent.click(screen.getByRole('menuitem', { name: 'Freeze…' }));
  const dialog = within(screen.getByRole('dialog', { name: 'Freeze kiosk-auken-1' }));
  await userEvent.type(dialog.getByLabelText(/^Only these clauses/), 'file:/etc/kiosk/*{Enter}package:kiosk-shell');
  await userEvent.type(dialog.getByLabelText('Reason'), 'the pier is rebuilt');
  await userEvent.click(dialog.getByRole('button', { name: 'Freeze' }));
  await vi.waitFor(() => expect(asked.some(({ path }) => path === SET)).toBe(true));
  expect(JSON.parse(asked.find(({ path }) => path === SET)?.body ?? '')).toEqual({
    nodes: ['kiosk-auken-1'],
    clauses: ['file:/etc/kiosk/*', 'package:kiosk-shell'],
    for_secs: 14_400,
    because: 'the pier is rebuilt',
  });
});
