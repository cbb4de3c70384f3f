import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import type { Schemas } from '../api/client';
import { serve, show } from '../testing';
import { RunPage } from './RunPage';

type Clause = { clause: Schemas['ClauseResult']; words: Schemas['ClauseWords'] };

function clause(address: string, more: Partial<Schemas['ClauseResult']>, words: Partial<Schemas['ClauseWords']>): Clause {
  return {
    clause: { address, severity: 'low', origins: [], wanted: 'w1:0', decision: { due: 'nothing' }, outcome: 'in_line', took_us: 4_200, ...more },
    words: { status: 'in_line', is_quiet: true, headline: [{ text: 'in line' }], ...words },
  };
}

function run(clauses: Clause[], more: Partial<Schemas['ShownRun']> = {}, words: Partial<Schemas['RunWords']> = {}): Schemas['ShownRun'] {
  return {
    form: 1,
    run: '01a225ea',
    machine: 'kiosk-auken-1',
    agent: '0.1.0',
    wanted: { digest: 's2:0', releases: [{ release: 'kiosk-floor@1.0.0', baselines: ['kiosk-lockdown'] }] },
    mode: 'enforce',
    started_by: 'operator_on_node',
    began: '2026-11-23T06:40:00Z',
    took_us: 121_000,
    memory_epoch: '0',
    sequence: 7,
    status: 'drift_corrected',
    counts: { in_line: 1, corrected: 1, out_of_line: 0, blocked: 0, failed: 0, unsupported: 0, idle: 0 },
    clauses: clauses.map(({ clause }) => clause),
    words: { totals: '1 corrected, 1 in line', clauses: clauses.map(({ words }) => words), ...words },
    ...more,
  };
}

const compared = (run: string, status: string) => ({ run, began: '2026-11-23T06:24:00Z', status, releases: ['quay-base@1.4.0'] });
const ALONE = { before: null, after: compared('01a225ea', 'in_line'), changed: [], is_of_a_part: false };

function open(answer: Schemas['ShownRun'], clause = '', comparison: object = ALONE) {
  serve({
    'GET /api/nodes/kiosk-auken-1/runs/01a225ea': { body: answer },
    [`GET /api/nodes/kiosk-auken-1/runs/${answer.run}/comparison`]: { body: comparison },
  });
  show(
    <Routes>
      <Route path="/nodes/:name/runs/:run" element={<RunPage />} />
    </Routes>,
    `/nodes/kiosk-auken-1/runs/01a225ea${clause}`,
  );
}

const CORRECTED = clause(
  'file:/etc/kiosk/shell.conf',
  { outcome: 'corrected', cause: 'drift', differences: [{ property: 'content', wanted: { is: 'value', value: 45 }, found: { is: 'value', value: 600 } }] },
  {
    status: 'drift_corrected',
    is_quiet: false,
    headline: [{ text: 'corrected' }],
    cause: [{ text: 'drift: the node changed at ' }, { time: '2026-11-23T06:39:00Z' }],
    notes: [{ text: 'the replaced contents of /etc/kiosk/shell.conf are number 3 in the attic of the node' }].map((part) => [part]),
    warnings: [[{ text: 'restart it by hand' }]],
  },
);

test('a clause has the words of the server, with its times in the zone of the reader', async () => {
  open(run([CORRECTED, clause('file:/etc/issue', {}, {})]));
  expect(await screen.findByText(/^Mode enforce\. 2 clauses in 121 ms: 1 corrected, 1 in line\.$/)).toBeTruthy();
  expect(screen.getByText(/started by a person on the node/)).toBeTruthy();
  const report = screen.getByRole('article', { name: 'file:/etc/kiosk/shell.conf' });
  expect(report.textContent).toMatch(/Drift: the node changed at 23 Nov 2026, \d\d:39:00/);
  expect(report.textContent).toContain('The replaced contents of /etc/kiosk/shell.conf are number 3 in the attic of the node');
  expect(report.textContent).toContain('Restart it by hand');
});

test('clauses in line are left out until they are asked for, but for the one that the address names', async () => {
  open(run([CORRECTED, clause('file:/etc/issue', {}, {}), clause('file:/etc/motd', {}, {})]), '?clause=file:/etc/motd');
  expect(await screen.findByRole('article', { name: 'file:/etc/motd' })).toBeTruthy();
  expect(screen.queryByRole('article', { name: 'file:/etc/issue' })).toBeNull();
  await userEvent.click(screen.getByRole('button', { name: '1 clause is in line: show all' }));
  expect(await screen.findByRole('article', { name: 'file:/etc/issue' })).toBeTruthy();
});

test('an interrupted run, a partial one, and what was left out of a report are said', async () => {
  open(run([], {}, { did_not_end: 'interrupted after 7 of 19 clauses', left_out: 'left out: 3 clauses' }));
  expect(await screen.findByText(/interrupted after 7 of 19 clauses: the agent was killed or the machine stopped/)).toBeTruthy();
  expect(screen.getByText('left out: 3 clauses')).toBeTruthy();
});

test('package changes ahead are listed, those that remove one marked', async () => {
  const preview = { packages: [{ package: 'quay-fonts', before: '1.1', after: null }], not_known: [], native: [] };
  open(run([], { package_preview: preview }, { packages: ['quay-fonts 1.1 is removed'], part: 'partial: 18 clauses were left out' }));
  expect(await screen.findByText('quay-fonts 1.1 is removed')).toBeTruthy();
  expect(screen.getByText(/0 clauses in 121 ms: 1 corrected, 1 in line; partial: 18 clauses were left out/)).toBeTruthy();
});

test('what failed last time and passes now is told with what had failed, and the run before is linked', async () => {
  const changed = [
    { address: 'file:/etc/issue', severity: 'medium', change: 'fails_now', before: 'in_line', after: 'failed', cause: null, message: 'no space left' },
    {
      address: 'package:kiosk-shell',
      severity: 'high',
      change: 'passes_now',
      before: 'failed',
      after: 'corrected',
      cause: null,
      message: 'no source offers it',
    },
  ];
  open(run([CORRECTED]), '', { ...ALONE, before: compared('01a225e9', 'failed'), changed, is_of_a_part: true });
  const card = (await screen.findByText('failed last time, passes now')).closest('section');
  expect(card?.textContent).toMatch(/2 clauses are otherwise:\s*fails now file:\/etc\/issue\s*no space left/);
  expect(card?.textContent).toMatch(/package:kiosk-shell\s*It had said: no source offers it/);
  expect(card?.textContent).toContain('those that are new or gone are not told');
  expect(screen.getByRole('link', { name: 'failed' }).getAttribute('href')).toBe('/nodes/kiosk-auken-1/runs/01a225e9');
});
