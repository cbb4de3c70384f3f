import Box from '@mui/material/Box';
import LinearProgress from '@mui/material/LinearProgress';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useRef } from 'react';
import { Link as RouterLink, useParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { StatusWord } from '../looks/StatusWord';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { writeFirst } from '../words/sentence';
import { exact, took } from '../words/time';
import { useNow } from '../words/useNow';
import { count, startedBy } from '../words/words';
import { ClauseReport } from './ClauseReport';

/** It is looked so often what came out. */
const EVERY = 1_000;
/** This many clauses are listed, the last ones first. */
const MOST = 200;

type Run = Schemas['RunUnderWay'];
type Followed = Schemas['FollowedClause'];

/** What came out of a run so far. */
interface Seen {
  run?: string;
  /** The number of the last clause. */
  last: number;
  /** Those that need attention, the last first. */
  clauses: Followed[];
  inLine: number;
}

const NOTHING: Seen = { last: 0, clauses: [], inLine: 0 };

/** Adds what came out since. */
export function addTo(seen: Seen, follow: Schemas['Follow']): Seen {
  const before = follow.run?.id === seen.run ? seen : { ...NOTHING, run: follow.run?.id };
  const more = follow.clauses.filter(({ no }) => no > before.last);
  const attention = more.filter(({ words }) => !words.is_quiet).reverse();
  return {
    run: before.run,
    last: more.at(-1)?.no ?? before.last,
    clauses: [...attention, ...before.clauses].slice(0, MOST),
    inLine: before.inLine + more.length - attention.length,
  };
}

/** The run of a node while it goes on, clause by clause. */
export function FollowPage() {
  const { name = '' } = useParams();
  return (
    <Page title={`Runs of ${name}`} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/nodes">
          Nodes
        </Link>{' '}
        /{' '}
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(name)}`}>
          {name}
        </Link>{' '}
        / runs as they go on
      </Typography>
      <FollowedRuns key={name} name={name} />
    </Page>
  );
}

function FollowedRuns({ name }: { name: string }) {
  const seen = useRef(NOTHING);
  const follow = useQuery({
    queryKey: ['follow', name],
    queryFn: async ({ signal }) => {
      const { run, last } = seen.current;
      const answer = await api.follow(name, { run, after: last }, signal);
      seen.current = addTo(seen.current, answer);
      return { answer, seen: seen.current };
    },
    refetchInterval: EVERY,
    gcTime: 0,
    meta: { isRefreshedByTimeOnly: true },
  });
  return (
    <>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 1 }}>
        <Typography variant="h1">Runs of {name}, as they go on</Typography>
        <Box sx={{ flex: 1 }} />
        <CopiedCommand command={`constans run follow ${name}`} />
      </Box>
      <QueryView query={follow}>
        {({ answer, seen }) => (
          <>
            <Card>{answer.run ? <RunState node={name} run={answer.run} inLine={seen.inLine} /> : <Waiting follow={answer} />}</Card>
            {answer.run?.end && <Waiting follow={answer} />}
            <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 2, mt: 2 }}>
              {seen.clauses.map((clause) => (
                <ClauseReport key={clause.no} clause={clause.result} words={clause.words} isChosen={false} />
              ))}
            </Box>
          </>
        )}
      </QueryView>
    </>
  );
}

/** What is waited for, and how a run is begun. */
function Waiting({ follow }: { follow: Schemas['Follow'] }) {
  const now = useNow();
  return (
    <Typography sx={{ color: 'text.secondary', mt: follow.run ? 1 : 0 }} aria-live="polite">
      {writeFirst(follow.waits, now)}. A run is begun by “Run now…” among the actions of the node.
    </Typography>
  );
}

function RunState({ node, run, inLine }: { node: string; run: Run; inLine: number }) {
  const { reached, of, end } = run;
  const share = of > 0 ? (100 * reached) / of : 0;
  return (
    <>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center' }}>
        {end ? (
          <>
            <StatusWord status={end.status} />
            <Typography>
              {count(of, 'clause')} in {took(end.took_us)}.{' '}
              <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run.id}`}>
                The whole run
              </Link>
            </Typography>
          </>
        ) : (
          <Typography>
            <b>
              {reached} of {of}
            </b>{' '}
            {run.doing || 'beginning'} {run.address && <Address>{run.address}</Address>}, {took(run.for_ms * 1_000)}
          </Typography>
        )}
      </Box>
      {!end && <LinearProgress variant="determinate" value={share} aria-label={`${reached} of ${of} clauses begun`} sx={{ my: 1 }} />}
      <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>
        {!end && run.last_took_ms !== undefined && run.last_took_ms !== null && `The last run took ${took(run.last_took_ms * 1_000)}. `}
        Began {exact(run.began)} by the clock of the node, mode {run.mode}, started by {startedBy(run.started_by)}
        {run.sweep && (
          <>
            {' '}
            <Link component={RouterLink} to={`/activity/S${run.sweep}`}>
              S{run.sweep}
            </Link>
          </>
        )}
        . {count(inLine, 'clause')} in line{run.before > 0 && `; ${count(run.before, 'clause')} came out before anybody followed`}.
      </Typography>
    </>
  );
}
