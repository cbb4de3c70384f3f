import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, lists, type Schemas } from '../api/client';
import { ChangeDialog } from '../changes/ChangeDialog';
import { FilterChips } from '../lists/FilterChips';
import { ListView } from '../lists/ListView';
import { NODE_COLUMN } from '../lists/nodeColumn';
import type { Column } from '../lists/RecordTable';
import { type List, useList } from '../lists/useList';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { FailureList } from '../looks/FailureList';
import { Moment } from '../looks/Moment';
import { PropertyList } from '../looks/PropertyList';
import { StatusGlyph } from '../looks/StatusGlyph';
import { QueryView } from '../shell/QueryView';
import { ReasonDialog } from '../shell/ReasonDialog';
import { mayOn, sessionQuery } from '../shell/session';
import { clock } from '../words/time';
import { rolloutNodeState, rolloutStatus } from '../words/words';
import { planWords } from './rolloutWords';
import { WaveRow } from './WaveRow';

/** While it goes on, it is looked so often how it is, in milliseconds; of many nodes that costs the server more. */
const EVERY = 2_000;
const MANY = 2_000;
const EVERY_OF_MANY = 15_000;

function every({ rollout, waves }: Schemas['Rollout']): number | false {
  if (rollout.ended_at) return false;
  return waves.reduce((sum, { figures }) => sum + figures.nodes, 0) > MANY ? EVERY_OF_MANY : EVERY;
}

/** A change that reaches its nodes in waves: how each wave is, what failed, and what a person can do. */
export function RolloutCards({ no }: { no: number }) {
  const rollout = useQuery({
    queryKey: ['rollout', no],
    queryFn: ({ signal }) => api.rolloutShown(no, signal),
    refetchInterval: ({ state: { data } }) => (data ? every(data) : EVERY),
    meta: { isRefreshedByTimeOnly: true },
  });
  return <QueryView query={rollout}>{(shown) => <Cards shown={shown} />}</QueryView>;
}

function Cards({ shown }: { shown: Schemas['Rollout'] }) {
  const { rollout, waves, bad_clauses, within } = shown;
  const badWithin = within.filter(({ bad }) => bad > 0);
  const list = useList('in_rollout', lists.rolloutNodes(rollout.no), {
    key: ['rollout', rollout.no, 'nodes'],
    refetchInterval: () => every(shown),
    meta: { isRefreshedByTimeOnly: true },
  });
  return (
    <Box sx={{ display: 'grid', gap: 2, mb: 2, minWidth: 0 }}>
      <Card title="Waves" aside={<Actions rollout={rollout} />}>
        <Typography role="status" sx={{ '&::first-letter': { textTransform: 'uppercase' } }}>
          {rolloutStatus(rollout.status)}
          {rollout.ended_at && `, ${clock(rollout.ended_at)} by ${rollout.ended_by}`}.
        </Typography>
        {rollout.halted && !rollout.ended_at && (
          <Alert severity="error" variant="outlined" sx={{ my: 1 }}>
            Halted {clock(rollout.halted.at)} by {rollout.halted.who}: {rollout.halted.because}
          </Alert>
        )}
        <Typography sx={{ color: 'text.secondary' }}>{planWords(rollout.plan)}</Typography>
        <Box component="ol" sx={{ listStyle: 'none', p: 0, m: 0, mt: 1 }}>
          {waves.map((wave) => (
            <WaveRow key={wave.wave} wave={wave} of={waves.length} rollout={rollout} />
          ))}
        </Box>
      </Card>
      {bad_clauses.length > 0 && (
        <Card title="What failed, by clause">
          <FailureList failures={bad_clauses} />
        </Card>
      )}
      {badWithin.length > 0 && (
        <Card title={`Bad nodes, by ${rollout.plan.within}`}>
          <PropertyList properties={badWithin.map(({ value, nodes, bad }) => [value || 'without it', `${bad} of ${nodes}`])} />
          {within.length > badWithin.length && (
            <Typography sx={{ color: 'text.secondary', mt: 1 }}>None on {within.length - badWithin.length} more.</Typography>
          )}
        </Card>
      )}
      <Card title="Nodes of the rollout">
        <Chips waves={waves} list={list} />
        <ListView
          label="Nodes of the rollout"
          nouns={['node', 'nodes']}
          list={list}
          columns={COLUMNS}
          keyOf={({ name }) => name}
          example='in_rollout.wave == 1 && in_rollout.state != "finished"'
          empty={null}
        />
      </Card>
    </Box>
  );
}

function Actions({ rollout }: { rollout: Schemas['RolloutSummary'] }) {
  const session = useQuery(sessionQuery);
  const [asks, setAsks] = useState<'halt' | 'go-on' | 'turn-back'>();
  const mayDecide = mayOn(session.data).includes('change.decide');
  const { no, status, reached, plan } = rollout;
  const close = () => setAsks(undefined);
  const isGoing = status === 'going';
  const canTurnBack = !rollout.ended_at && reached < plan.waves.length;
  const reasons = { halt: api.haltRollout, 'go-on': api.rolloutGoesOn };
  return (
    <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'center' }}>
      {isGoing && (
        <Button variant="outlined" disabled={!mayDecide} onClick={() => setAsks('halt')}>
          Halt…
        </Button>
      )}
      {!rollout.ended_at && (
        <Button variant="outlined" disabled={!mayDecide} onClick={() => setAsks('go-on')}>
          Go on…
        </Button>
      )}
      {canTurnBack && (
        <Button variant={isGoing ? 'outlined' : 'contained'} disabled={!mayDecide} onClick={() => setAsks('turn-back')}>
          Turn back…
        </Button>
      )}
      {!rollout.ended_at && session.data && !mayDecide && <Typography sx={{ color: 'text.secondary' }}>for approvers and administrators</Typography>}
      <CopiedCommand command={`constans rollout show C${no} --follow`} />
      {asks === 'halt' && (
        <ReasonDialog title={`Halt the rollout of C${no}`} action="Halt" act={(because) => reasons.halt(no, because)} onClose={close}>
          <Typography>No further wave is handed out. Nodes that have the change keep it.</Typography>
        </ReasonDialog>
      )}
      {asks === 'go-on' && (
        <ReasonDialog title={`Go on with the rollout of C${no}`} action="Go on" act={(because) => reasons['go-on'](no, because)} onClose={close}>
          <Typography>
            {rollout.halted && rollout.halted.who !== 'the server'
              ? `Wave ${reached} settles as before, and is followed by the next one.`
              : 'The next wave begins at once, whatever came of those so far. One that could not be handed out is tried again.'}
          </Typography>
        </ReasonDialog>
      )}
      {asks === 'turn-back' && (
        <ChangeDialog
          title={`Turn back C${no}`}
          next="The nodes that it reached are as they were before it. What that alters is shown before anything is handed out."
          isWhole
          filledIn="turn back"
          mayHandOut={mayDecide}
          canGoInWaves={false}
          ask={(how) => api.turnRolloutBack(no, how)}
          onClose={close}
        />
      )}
    </Box>
  );
}

/** What is looked for most, as filters of the list. */
function Chips({ waves, list }: { waves: Schemas['RolloutWave'][]; list: List<Schemas['RolloutNode']> }) {
  const sum = (of: (figures: Schemas['WaveFigures']) => number) => waves.reduce((sum, { figures }) => sum + of(figures), 0);
  const chips = [
    ['all', sum(({ nodes }) => nodes), ''],
    ['bad', sum(({ failed, unusable, not_heard }) => failed + unusable + not_heard), 'in_rollout.state in ["failed", "unusable", "not_heard"]'],
    ['untried', sum(({ untried }) => untried), 'in_rollout.state == "untried"'],
    ['silent', sum(({ silent }) => silent), 'in_rollout.state == "silent"'],
  ] as const;
  return <FilterChips chips={chips} list={list} />;
}

const COLUMNS: Column<Schemas['RolloutNode']>[] = [
  NODE_COLUMN,
  { field: 'wave', head: 'Wave', align: 'right', text: ({ wave }) => String(wave) },
  { field: 'state', head: 'Now', text: ({ state }) => rolloutNodeState(state), cell: (node) => <Now node={node} /> },
  { field: 'heard_at', head: 'Last heard', text: ({ heard_at }) => heard_at ?? '', cell: ({ heard_at }) => <Moment at={heard_at} /> },
  {
    field: 'next_check_in',
    head: 'Next check-in',
    text: ({ next_check_in }) => next_check_in ?? '',
    cell: ({ next_check_in }) => <Moment at={next_check_in} />,
  },
];

function Now({ node: { state, status } }: { node: Schemas['RolloutNode'] }) {
  const isBad = state === 'failed' || state === 'unusable' || state === 'not_heard';
  const hasRun = state === 'failed' || state === 'finished' || state === 'untried';
  return (
    <Box sx={{ display: 'flex', gap: 1, color: isBad ? 'error.main' : undefined }}>
      {hasRun && status && <StatusGlyph status={status} size={18} />}
      {rolloutNodeState(state)}
    </Box>
  );
}
