import { screen, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { RolloutCards } from './RolloutCard';
import { RolloutDialog } from './RolloutDialog';
import { asCommand, readWaves, sharesOf } from './rolloutWords';

const session = (...permissions: string[]) => ({ 'GET /api/session': { body: { person: 'tor.havik', roles: [], permissions, server: {}, token: 't' } } });
const plan = { waves: [5, 25, 100], settle_secs: 1_800, bad_above_percent: 2, within: 'site' };
const rollout = {
  no: 118,
  what: 'quay-base@1.4.0 is served in open-water',
  who: 'ilse.maren',
  because: 'the winter timetable',
  plan,
  status: 'halted',
  began_at: '2026-11-23T07:42:10Z',
  reached: 1,
  halted: { because: 'wave 1: 3 of 9 nodes that received it are bad: 2 failed, 1 not heard since, above 2 %', who: 'the server', at: '2026-11-23T07:52:10Z' },
};
const figures = { nodes: 12, silent: 2, received: 9, finished: 7, untried: 1, failed: 2, unusable: 0, not_heard: 1 };
const none = { nodes: 40, silent: 0, received: 0, finished: 0, untried: 0, failed: 0, unusable: 0, not_heard: 0 };
const shown = {
  rollout,
  waves: [
    { wave: 1, percent: 5, change: 119, handed_out_at: '2026-11-23T07:42:12Z', figures },
    { wave: 2, percent: 25, figures: none },
    { wave: 3, percent: 100, figures: { ...none, nodes: 148 } },
  ],
  bad_clauses: [{ address: 'service:kiosk-shell', message: 'it did not start', nodes: 2, names: ['kiosk-auken-10', 'kiosk-brisk-12'] }],
  within: [
    { value: 'auken', nodes: 5, bad: 3 },
    { value: 'brisk', nodes: 4, bad: 0 },
  ],
  now: '2026-11-23T07:53:00Z',
};
const nodes = [
  { name: 'kiosk-auken-10', wave: 1, state: 'failed', status: 'failed', heard_at: '2026-11-23T07:52:00Z', next_check_in: '2026-11-23T08:07:00Z' },
  { name: 'bridge-tern', wave: 1, state: 'silent', heard_at: '2026-11-21T07:52:00Z' },
];
const PAGE = { 'GET /api/rollouts/118': { body: shown }, 'GET /api/rollouts/118/nodes?size=100': { body: nodes } };
const BEGIN = 'POST /api/rollouts';
const impact = {
  nodes: 200,
  takes: 0,
  takes_from: 0,
  settings: 0,
  clauses: [],
  clauses_left_out: 0,
  restarts: [],
  unusable: [],
  applied: [],
  restarting: [],
  not_served: [],
};

beforeEach(() => sessionStorage.clear());

test('which nodes each wave would have is shown before it begins, and what is wrong keeps it from that', async () => {
  const waves = [
    { percent: 5, nodes: 12, names: ['kiosk-auken-10', 'kiosk-brisk-12'] },
    { percent: 100, nodes: 188, names: [] },
  ];
  const asked = serve({ ...session('change.decide'), [BEGIN]: { body: { waves, begun: true } } });
  const close = vi.fn();
  // biome-ignore lint/suspicious/noExplicitAny: an impact as small as the test needs it
  show(<RolloutDialog no={118} what="serve it" impact={impact as any} typedFrom={3} onClose={close} />);
  const dialog = within(await screen.findByRole('dialog', { name: 'Hand out C118 in waves: serve it' }));
  const percents = dialog.getByLabelText('Percent of the nodes after each wave');
  await userEvent.clear(percents);
  await userEvent.type(percents, '25%, 5%');
  const begin = dialog.getByRole<HTMLButtonElement>('button', { name: 'Begin the first wave' });
  expect(begin.disabled, 'they do not rise').toBe(true);
  await userEvent.clear(percents);
  await userEvent.type(percents, '5%, 100%');
  await userEvent.type(dialog.getByLabelText('Within each value of a label'), 'site');
  const rows = await dialog.findAllByRole('listitem');
  expect(rows.map((row) => row.textContent)).toEqual(['5 %: 12 nodes: kiosk-auken-10, kiosk-brisk-12 and 10 more', '100 %: 188 nodes and 188 more']);
  await userEvent.click(begin);
  await vi.waitFor(() => expect(close).toHaveBeenCalled());
  const sent = asked.filter(({ path }) => path === BEGIN).map(({ body }) => JSON.parse(body));
  expect(
    sent.slice(0, -1).every(({ preview }) => preview),
    'looked at before',
  ).toBe(true);
  expect(sent.at(-1)).toEqual({
    change: 118,
    plan: { waves: [5, 100], settle_secs: 1_800, bad_above_percent: 2, within: 'site' },
    confirmed: { takes_from: 0, takes: 0, nodes: 200 },
  });
});

test('a halted rollout says why, how its nodes divide, and what a person can do', async () => {
  const asked = serve({ ...session('change.decide'), ...PAGE, 'POST /api/rollouts/118/go-on': { body: shown } });
  show(<RolloutCards no={118} />);
  expect(await screen.findByText(/by the server: wave 1: 3 of 9 nodes that received it are bad/)).toBeTruthy();
  const bars = screen.getAllByRole('img', { name: /nodes?|finished|to come/ }).map((bar) => bar.getAttribute('aria-label'));
  expect(bars[0]).toBe(
    '4 finished a full run, 1 untried: they observe, 2 failed, 1 not heard since, 1 received it, 1 expected to check in, 2 silent, get it on return',
  );
  expect(screen.getByText('service:kiosk-shell')).toBeTruthy();
  expect(await screen.findByRole('link', { name: 'bridge-tern' })).toBeTruthy();
  expect(screen.queryByRole('button', { name: 'Halt…' }), 'it is halted').toBeNull();
  expect(screen.getByRole('button', { name: 'Turn back…' })).toBeTruthy();
  await userEvent.click(screen.getByRole('button', { name: 'Go on…' }));
  const dialog = within(await screen.findByRole('dialog', { name: 'Go on with the rollout of C118' }));
  expect(dialog.getByText(/The next wave begins at once, whatever came of those so far/)).toBeTruthy();
  await userEvent.type(dialog.getByLabelText('Reason'), 'the two are replaced');
  await userEvent.click(dialog.getByRole('button', { name: 'Go on' }));
  await vi.waitFor(() => expect(asked.some(({ path, body }) => path.endsWith('/go-on') && JSON.parse(body).because === 'the two are replaced')).toBe(true));
});

test('who may not decide sees it, and may not act', async () => {
  serve({ ...session('node.read'), ...PAGE });
  show(<RolloutCards no={118} />);
  expect((await screen.findByRole<HTMLButtonElement>('button', { name: 'Turn back…' })).disabled).toBe(true);
  expect(await screen.findByText('for approvers and administrators')).toBeTruthy();
});

test('the parts of a wave add up to its nodes, and waves are read as the client reads them', () => {
  const wave = { wave: 1, percent: 5, figures, handed_out_at: '2026-11-23T07:42:12Z' };
  expect(sharesOf(wave).reduce((sum, { nodes }) => sum + nodes, 0)).toBe(figures.nodes);
  expect(sharesOf({ wave: 2, percent: 25, figures: none })).toEqual([{ nodes: 40, words: 'to come', colour: 'hairline' }]);
  expect(readWaves('5%,25%, 100')).toEqual([5, 25, 100]);
  for (const wrong of ['', '5%', '25%,5%,100%', '0%,100%', 'x,100%', '5%,,100%']) expect(readWaves(wrong), wrong).toBeUndefined();
  expect(asCommand(118, plan)).toBe("constans rollout begin C118 --waves 5%,25%,100% --settle 30m --halt 'bad > 2%' --within site");
});
