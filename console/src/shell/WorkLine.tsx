import Box from '@mui/material/Box';
import LinearProgress from '@mui/material/LinearProgress';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { count } from '../words/words';

/** How often it is looked whether work goes on that nothing more is heard of, in milliseconds. */
const LOOK_AGAIN_MS = 15_000;

/** The server's long work that began first: what, whose, how far. */
export function WorkLine() {
  const work = useQuery({
    queryKey: ['work'],
    queryFn: ({ signal }) => api.work(signal),
    refetchInterval: (query) => (query.state.data?.length ? LOOK_AGAIN_MS : false),
  });
  const [first, ...others] = work.data ?? [];
  if (!first) return null;
  const far = `${first.done.toLocaleString('en')} of ${count(first.total, 'node')}`;
  const words = `${first.who}: ${first.what}`;
  return (
    <Box role="status" sx={{ alignSelf: 'center', minWidth: 0, maxWidth: 560 }} title={words}>
      <Box sx={{ display: 'flex', gap: 1, fontSize: 13, color: 'text.secondary' }}>
        <Typography noWrap component="span" sx={{ fontSize: 'inherit' }}>
          {words}
        </Typography>
        <Typography noWrap component="span" sx={{ fontSize: 'inherit', flexShrink: 0 }}>
          {far}
          {others.length > 0 && `, and ${others.length} more`}
        </Typography>
      </Box>
      <LinearProgress variant="determinate" value={first.total ? (100 * first.done) / first.total : 0} aria-label={far} sx={{ height: 2 }} />
    </Box>
  );
}
