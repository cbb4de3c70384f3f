import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { rolloutWords } from '../rollouts/rolloutWords';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { mayOn, sessionQuery } from '../shell/session';
import { SweepDialog } from '../sweeps/SweepDialog';
import { progressWords, sweepAddress } from '../sweeps/sweepWords';
import { count } from '../words/words';

type Sweep = Schemas['Sweep'];

const COLUMNS: Column<Sweep>[] = [
  {
    field: 'no',
    head: 'Sweep',
    text: ({ no }) => `S${no}`,
    cell: ({ no }) => (
      <Link component={RouterLink} to={sweepAddress(no)}>
        S{no}
      </Link>
    ),
  },
  { field: 'what', head: 'What', text: ({ what }) => what },
  { field: 'which', head: 'Nodes', text: ({ which }) => which },
  { field: 'who', head: 'Who', text: ({ who }) => who, isOneLine: true },
  { field: 'because', head: 'Why', text: ({ because }) => because },
  { field: 'asked_at', head: 'When', text: ({ asked_at }) => asked_at, cell: ({ asked_at }) => <Moment at={asked_at} /> },
  { field: 'status', head: 'Progress', text: progressWords, isOneLine: true },
  { field: 'failed', head: 'Failed', align: 'right', text: ({ counts }) => String(counts.failed) },
  { field: 'in_line', head: 'In line', align: 'right', text: ({ counts }) => String(counts.in_line) },
];

/** What is done on chosen nodes, and what long work goes on. */
export function ActivityPage() {
  const [parameters, set] = useParameters();
  const session = useQuery(sessionQuery);
  const list = useList('sweep', lists.sweeps, { key: ['sweeps'] });
  const activities = useQuery({ queryKey: ['activities'], queryFn: ({ signal }) => api.activities(signal) });
  const mayRun = mayOn(session.data).includes('run.now');
  const number = (name: string) => Number((parameters.get(name) ?? '').replace(/^S/i, ''));
  const [compared, earlier] = [number('compare'), number('with')];
  return (
    <Page title="Activity">
      <Box sx={{ display: 'grid', gap: 2 }}>
        <Card
          title="Sweeps"
          aside={
            <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
              <Button variant="contained" disabled={!mayRun} onClick={() => set({ run: 'all' })}>
                Run now…
              </Button>
              <CopiedCommand command={`constans sweep list${asArgument(list.filter)}`} />
            </Box>
          }
        >
          <Typography sx={{ color: 'text.secondary', mb: 1 }}>
            Runs over chosen nodes that somebody asked for. From <i>Nodes</i>, <i>Drift</i> and the page of a node they are begun on chosen ones.
            {!mayRun && ' Operators, approvers and administrators begin them.'}
          </Typography>
          <ListView
            label="Sweeps"
            nouns={['sweep', 'sweeps']}
            list={list}
            columns={COLUMNS}
            keyOf={({ no }) => String(no)}
            example={'sweep.who == "ilse.maren" && sweep.failed > 0'}
            empty={
              <Typography>
                No sweeps yet. Begin one: <Address>constans sweep observe --because REASON</Address>
              </Typography>
            }
          />
        </Card>
        <RolloutsCard />
        {compared > 0 && earlier > 0 && <ComparedCard no={compared} earlier={earlier} onClose={() => set({ compare: null, with: null })} />}
        <Card title="Work in progress">
          <QueryView query={activities}>
            {(activities) =>
              activities.length === 0 ? (
                <Typography>None.</Typography>
              ) : (
                <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
                  {activities.map(({ what, who, done, total }) => (
                    <li key={what}>
                      {who}: {what}, {done.toLocaleString('en')} of {count(total, 'node')}
                    </li>
                  ))}
                </Box>
              )
            }
          </QueryView>
        </Card>
      </Box>
      {parameters.get('run') === 'all' && mayRun && <SweepDialog filter="" where="all nodes" onClose={() => set({ run: null })} />}
    </Page>
  );
}

/** Changes that reach their nodes in waves. */
function RolloutsCard() {
  const list = useList('rollout', lists.rollouts, { key: ['rollouts'], prefix: 'rollouts.' });
  return (
    <Card title="Rollouts" aside={<CopiedCommand command={`constans rollout list${asArgument(list.filter)}`} />}>
      <Typography sx={{ color: 'text.secondary', mb: 1 }}>
        Changes that reach their nodes in waves. They begin where any change is handed out, by <i>In waves…</i>
      </Typography>
      <ListView
        label="Rollouts"
        nouns={['rollout', 'rollouts']}
        list={list}
        columns={ROLLOUT_COLUMNS}
        keyOf={({ no }) => String(no)}
        example={'rollout.status == "halted"'}
        empty={
          <Typography>
            No rollouts yet. Preview a change, then: <Address>constans rollout begin CHANGE</Address>
          </Typography>
        }
      />
    </Card>
  );
}

const ROLLOUT_COLUMNS: Column<Schemas['RolloutSummary']>[] = [
  {
    field: 'no',
    head: 'Rollout',
    text: ({ no }) => `C${no}`,
    cell: ({ no }) => (
      <Link component={RouterLink} to={changeAddress(no)}>
        C{no}
      </Link>
    ),
  },
  { field: 'what', head: 'What', text: ({ what }) => what },
  { field: 'who', head: 'Who', text: ({ who }) => who, isOneLine: true },
  { field: 'because', head: 'Why', text: ({ because }) => because ?? '' },
  { field: 'began_at', head: 'When', text: ({ began_at }) => began_at, cell: ({ began_at }) => <Moment at={began_at} /> },
  { field: 'status', head: 'Progress', text: rolloutWords, isOneLine: true },
  { field: 'halted_because', head: 'Halted because', text: ({ halted, ended_at }) => (halted && !ended_at ? halted.because : '') },
];

/** Two sweeps side by side. */
function ComparedCard({ no, earlier, onClose }: { no: number; earlier: number; onClose: () => void }) {
  const comparison = useQuery({ queryKey: ['sweep', no, 'compared with', earlier], queryFn: ({ signal }) => api.sweepCompared(no, earlier, signal) });
  return (
    <Card
      title={`S${no} compared with S${earlier}`}
      aside={
        <Box sx={{ display: 'flex', gap: 2 }}>
          <CopiedCommand command={`constans sweep compare S${no} --with S${earlier}`} />
          <Button variant="text" onClick={onClose}>
            Close
          </Button>
        </Box>
      }
    >
      <QueryView query={comparison}>{(comparison) => <Compared comparison={comparison} />}</QueryView>
    </Card>
  );
}

function Compared({ comparison }: { comparison: Schemas['SweepComparison'] }) {
  const named = [
    ['In line now', comparison.in_line_now],
    ['Out of line now', comparison.out_of_line_now],
    ['Out of line still', comparison.out_of_line_still],
  ] as const;
  const failures = [
    ['Fails no more', comparison.failures_over],
    ['Fails now', comparison.failures_now],
  ] as const;
  return (
    <>
      <Typography>{count(comparison.both, 'node')} reported in both.</Typography>
      {named.map(
        ([words, { nodes, names }]) =>
          nodes > 0 && (
            <Typography key={words}>
              {words}: {names.join(', ')}
              {nodes > names.length && ` and ${nodes - names.length} more`}
            </Typography>
          ),
      )}
      {failures.map(([words, failures]) =>
        failures.map((failure) => (
          <Typography key={words + failure.address + failure.message}>
            {words}: <Address>{failure.address}</Address> on {count(failure.nodes, 'node')}: {failure.message}
          </Typography>
        )),
      )}
    </>
  );
}
