import Box from '@mui/material/Box';
import LinearProgress from '@mui/material/LinearProgress';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
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
  const [first, ...others] = activities.data ?? [];
  if (!first) return null;
  const progress = `${first.done.toLocaleString('en')} of ${count(first.total, 'node')}`;
  const words = `${first.who}: ${first.what}`;
  return (
    <Box role="status" sx={{ alignSelf: 'center', minWidth: 0, maxWidth: 560 }} title={words}>
      <Box sx={{ display: 'flex', gap: 1, fontSize: 13, color: 'text.secondary' }}>
        <Typography noWrap component="span" sx={{ fontSize: 'inherit' }}>
          {words}
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
