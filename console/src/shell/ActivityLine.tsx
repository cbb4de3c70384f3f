import Box from '@mui/material/Box';
import LinearProgress from '@mui/material/LinearProgress';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { sweepAddress } from '../sweeps/sweepWords';
import { count } from '../words/words';

/** Poll interval while an activity is in progress, in case an event is lost, in milliseconds. */
const LOOK_AGAIN_MS = 15_000;

/** The oldest activity in progress: who started it, what it does, and its progress. */
export function ActivityLine() {
  const activities = useQuery({
    queryKey: ['activities'],
    queryFn: ({ signal }) => api.activities(signal),
    refetchInterval: (query) => (query.state.data?.length ? LOOK_AGAIN_MS : false),
  });
  const ended = useEndedSweep(activities.data);
  const [first, ...others] = activities.data ?? [];
  if (!first) return ended ? <EndedSweep no={ended} /> : null;
  const progress = `${first.done.toLocaleString('en')} of ${count(first.total, 'node')}`;
  const words = `${first.who}: ${first.what}`;
  const address = first.sweep ? sweepAddress(first.sweep) : first.rollout ? changeAddress(first.rollout) : undefined;
  return (
    <Box role="status" sx={{ alignSelf: 'center', minWidth: 0, maxWidth: 560 }} title={words}>
      <Box sx={{ display: 'flex', gap: 1, fontSize: 13, color: 'text.secondary' }}>
        <Typography noWrap component="span" sx={{ fontSize: 'inherit' }}>
          {address ? (
            <Link component={RouterLink} to={address} color="inherit">
              {words}
            </Link>
          ) : (
            words
          )}
        </Typography>
        <Typography noWrap component="span" sx={{ fontSize: 'inherit', flexShrink: 0 }}>
          {progress}
          {others.length > 0 && `, and ${others.length} more`}
        </Typography>
      </Box>
      <LinearProgress variant="determinate" value={first.total ? (100 * first.done) / first.total : 0} aria-label={progress} sx={{ height: 2 }} />
    </Box>
  );
}

/** How long it is told that a sweep ended, in milliseconds. */
const TOLD_MS = 60_000;

/** The sweep that was in progress and is not any more, for a while. */
function useEndedSweep(activities: Schemas['Activity'][] | undefined): number | undefined {
  const running = activities?.flatMap(({ sweep }) => sweep ?? []).at(-1);
  const last = useRef<number>(undefined);
  const [ended, setEnded] = useState<number>();
  useEffect(() => {
    if (running !== undefined) last.current = running;
    else if (activities !== undefined && last.current !== undefined) {
      setEnded(last.current);
      last.current = undefined;
    }
  }, [running, activities]);
  useEffect(() => {
    if (ended === undefined) return;
    const timer = setTimeout(() => setEnded(undefined), TOLD_MS);
    return () => clearTimeout(timer);
  }, [ended]);
  return ended;
}

/** What a sweep came to that has just ended. */
function EndedSweep({ no }: { no: number }) {
  const sweep = useQuery({ queryKey: ['sweep', no], queryFn: ({ signal }) => api.sweepShown(no, signal) });
  if (!sweep.data) return null;
  const { counts, status } = sweep.data;
  const failed = counts.failed > 0 ? `, ${counts.failed} failed` : '';
  return (
    <Typography role="status" noWrap sx={{ alignSelf: 'center', fontSize: 13, color: 'text.secondary' }}>
      <Link component={RouterLink} to={sweepAddress(no)} color="inherit">
        S{no} {status === 'running' ? 'waits for silent nodes only' : status}: {counts.in_line} of {counts.nodes} in line{failed}
      </Link>
    </Typography>
  );
}
