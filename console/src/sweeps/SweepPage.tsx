import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useParams } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { FilterChips } from '../lists/FilterChips';
import { ListView } from '../lists/ListView';
import { NODE_COLUMN } from '../lists/nodeColumn';
import type { Column } from '../lists/RecordTable';
import { type List, useList } from '../lists/useList';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { FailureList } from '../looks/FailureList';
import { StatusGlyph } from '../looks/StatusGlyph';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { mayOn, sessionQuery } from '../shell/session';
import { write } from '../words/sentence';
import { clock } from '../words/time';
import { useNow } from '../words/useNow';
import { count } from '../words/words';
import { SweepBar } from './SweepBar';
import { SweepDialog } from './SweepDialog';
import { isWaitedFor, sweepAddress, sweepTitle, timeWords } from './sweepWords';

/** While nodes run, it is looked so often how far they are. */
const EVERY = 1_000;
/** Of more nodes than these it costs the server more, and it is looked so seldom. */
const MANY = 2_000;
const EVERY_OF_MANY = 5_000;
/** And so often while only silent ones are waited for. */
const SELDOM = 15_000;

function every({ counts }: Schemas['Sweep']): number {
  return counts.nodes > MANY ? EVERY_OF_MANY : EVERY;
}

/** One sweep: how far it is, what failed, what was left and until when, and what is in line afterwards. */
export function SweepPage() {
  const no = Number((useParams().no ?? '').replace(/^S/i, ''));
  const sweep = useQuery({
    queryKey: ['sweep', no],
    queryFn: ({ signal }) => api.sweepShown(no, signal),
    refetchInterval: ({ state: { data } }) => (data?.status !== 'running' ? false : isWaitedFor(data) ? every(data) : SELDOM),
    meta: { isRefreshedByTimeOnly: true },
  });
  return (
    <Page title={`S${no}`} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/activity">
          Activity
        </Link>{' '}
        / sweep S{no}
      </Typography>
      <QueryView query={sweep}>{(sweep) => <Sweep sweep={sweep} />}</QueryView>
    </Page>
  );
}

function Sweep({ sweep }: { sweep: Schemas['Sweep'] }) {
  const { no } = sweep;
  const isOver = sweep.status !== 'running';
  const list = useList('swept', lists.sweptNodes(no), {
    key: ['sweep', no, 'nodes', isOver],
    refetchInterval: () => (isWaitedFor(sweep) ? every(sweep) : false),
    meta: { isRefreshedByTimeOnly: true },
  });
  return (
    <>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', mb: 2 }}>
        <Typography variant="h1">{sweepTitle(sweep)}</Typography>
        <Typography sx={{ color: 'text.secondary', flex: 1, minWidth: 240 }}>
          asked by {sweep.who}, {clock(sweep.asked_at)}, “{sweep.because}”; {sweep.which}
          {sweep.after && (
            <>
              ; corrects exactly what{' '}
              <Link component={RouterLink} to={sweepAddress(sweep.after)}>
                S{sweep.after}
              </Link>{' '}
              found
            </>
          )}
          {sweep.stopped && `; stopped by ${sweep.stopped.who}, ${clock(sweep.stopped.at)}`}
        </Typography>
        <SweepActions sweep={sweep} />
        <CopiedCommand command={`constans sweep show S${no} --follow`} />
      </Box>
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 13fr) minmax(0, 6fr)' }, alignItems: 'start' }}>
        <Box sx={{ gridColumn: '1 / -1', minWidth: 0 }}>
          <Card>
            <SweepBar sweep={sweep} />
            <Typography role="status" sx={{ color: 'text.secondary', mt: 1 }}>
              {timeWords(sweep)}
            </Typography>
          </Card>
        </Box>
        <Card title="Nodes">
          <Chips sweep={sweep} list={list} />
          <ListView
            label="Nodes of the sweep"
            nouns={['node', 'nodes']}
            list={list}
            columns={COLUMNS}
            keyOf={({ name }) => name}
            example='swept.state == "done" && !swept.is_in_line'
            empty={null}
          />
        </Card>
        <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
          <Failures no={no} failed={sweep.counts.failed} />
          <Afterwards sweep={sweep} />
        </Box>
      </Box>
    </>
  );
}

function SweepActions({ sweep }: { sweep: Schemas['Sweep'] }) {
  const queries = useQueryClient();
  const session = useQuery(sessionQuery);
  const [isEnforcing, setEnforcing] = useState(false);
  const mayRun = mayOn(session.data).includes('run.now');
  const stop = useMutation({ mutationFn: () => api.stopSweep(sweep.no), onSettled: () => queries.invalidateQueries({ queryKey: ['sweep', sweep.no] }) });
  const canEnforce = sweep.order.mode === 'observe' && sweep.counts.would > 0;
  return (
    <>
      {stop.error && <Alert severity="error">{problemWords(stop.error)}</Alert>}
      {canEnforce && (
        <Button variant="contained" disabled={!mayRun} onClick={() => setEnforcing(true)}>
          Enforce exactly this…
        </Button>
      )}
      {sweep.status === 'running' && (
        <Button variant="outlined" disabled={!mayRun || stop.isPending} onClick={() => stop.mutate()}>
          Stop
        </Button>
      )}
      {!mayRun && (canEnforce || sweep.status === 'running') && (
        <Typography sx={{ color: 'text.secondary' }}>for operators, approvers and administrators</Typography>
      )}
      {isEnforcing && <SweepDialog after={sweep.no} where={count(sweep.counts.nodes, 'node')} onClose={() => setEnforcing(false)} />}
    </>
  );
}

/** What is looked for most, as filters of the list. */
function Chips({ sweep: { counts }, list }: { sweep: Schemas['Sweep']; list: List<Schemas['SweptNode']> }) {
  const chips = [
    ['all', counts.nodes, ''],
    ['failed', counts.failed, 'swept.status == "failed"'],
    ['running', counts.begun, 'swept.state == "begun"'],
    ['not in line', counts.done - counts.in_line, 'swept.state == "done" && !swept.is_in_line'],
    ['not received', counts.pending + counts.offered, 'swept.state in ["pending", "offered"]'],
    ['refused', counts.refused, 'swept.state == "refused"'],
    ['not reached', counts.not_reached, 'swept.state == "not_reached"'],
  ] as const;
  return <FilterChips chips={chips} list={list} />;
}

const COLUMNS: Column<Schemas['SweptNode']>[] = [
  NODE_COLUMN,
  { field: 'state', head: 'Now', text: ({ words }) => write(words, Date.now()), cell: (node) => <Now node={node} /> },
  { field: 'reached', head: 'Clauses', align: 'right', text: ({ reached, of }) => (of > 0 ? `${reached} of ${of}` : ''), isOneLine: true },
  {
    field: 'took_ms',
    head: 'Took',
    align: 'right',
    text: ({ took_ms, last_took_ms }) =>
      took_ms === null || took_ms === undefined ? '' : tookWords(took_ms) + (last_took_ms ? `, the last run ${tookWords(last_took_ms)}` : ''),
    isOneLine: true,
  },
  { field: 'would', head: 'Would correct', align: 'right', text: ({ would }) => String(would), isHiddenFirst: true },
];

function Now({ node }: { node: Schemas['SweptNode'] }) {
  const now = useNow();
  const words = write(node.words, now);
  return (
    <Box sx={{ display: 'flex', gap: 1 }}>
      {node.status && <StatusGlyph status={node.status} size={18} />}
      <Box sx={{ minWidth: 0, color: node.status === 'failed' ? 'error.main' : node.status ? 'text.primary' : 'text.secondary', overflowWrap: 'anywhere' }}>
        {node.run ? (
          <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node.name)}/runs/${node.run}`} color="inherit">
            {words}
          </Link>
        ) : (
          words
        )}
      </Box>
    </Box>
  );
}

function tookWords(millis: number): string {
  return millis < 10_000 ? `${(millis / 1_000).toFixed(1)} s` : `${Math.round(millis / 1_000)} s`;
}

function Failures({ no, failed }: { no: number; failed: number }) {
  const failures = useQuery({
    queryKey: ['sweep', no, 'failures', failed],
    queryFn: ({ signal }) => api.sweepFailures(no, signal),
    placeholderData: (before) => before,
    enabled: failed > 0,
  });
  if (failed === 0) return null;
  return (
    <Card title="What failed, by clause">
      <QueryView query={failures}>{(failures) => <FailureList failures={failures} />}</QueryView>
    </Card>
  );
}

/** How many are in line now: only nodes count that the sweep examined. */
function Afterwards({ sweep: { no, order, counts, after, enforced_by } }: { sweep: Schemas['Sweep'] }) {
  const open = counts.nodes - counts.in_line;
  const corrected =
    order.mode === 'observe'
      ? counts.would > 0 && `${count(counts.would, 'clause')} would be corrected.`
      : `${count(counts.corrected_clauses, 'clause')} corrected${after ? `, of ${counts.would} that were observed` : ''}.`;
  return (
    <Card title={order.mode === 'observe' ? 'In line' : 'In line afterwards'}>
      <Typography sx={{ fontSize: 24, fontWeight: 600 }}>
        {counts.in_line} of {counts.nodes}
      </Typography>
      <Typography sx={{ color: 'text.secondary' }}>
        {counts.in_line_before} were before. Only nodes count that this sweep examined; {open} {open === 1 ? 'is' : 'are'} not in line, or not known.{' '}
        {corrected}
        {counts.changed_since > 0 && ` ${count(counts.changed_since, 'clause')} left, since they changed after they were observed.`}
      </Typography>
      {enforced_by && (
        <Link component={RouterLink} to={sweepAddress(enforced_by)}>
          S{enforced_by} corrects what it found
        </Link>
      )}
      {after && (
        <Link component={RouterLink} to={`/activity?compare=S${no}&with=S${after}`}>
          Compare with S{after}
        </Link>
      )}
    </Card>
  );
}
