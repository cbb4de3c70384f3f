import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { StatusGlyph } from '../looks/StatusGlyph';
import { clock, exact } from '../words/time';
import { statusWords } from '../words/words';

/** The last runs with changes, drift or failures, linked to their reports. */
export function RecentActivityList({ runs }: { runs: Schemas['RecentRun'][] }) {
  if (runs.length === 0) return <Typography>No changes, drift or failures in the last 30 days.</Typography>;
  return (
    <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
      {runs.map((run) => (
        <Box component="li" key={run.run} sx={{ display: 'flex', gap: 1, py: 0.5, fontSize: 14 }}>
          <StatusGlyph status={run.status} size={18} />
          <Link component={RouterLink} to={`/nodes/${encodeURIComponent(run.node)}/runs/${run.run}`} color="inherit" sx={{ flex: 1, minWidth: 0 }}>
            <strong>{run.node}</strong> {statusWords(run.status)}
            {run.mode === 'observe' ? ', observe' : ''}
          </Link>
          <Box component="time" dateTime={run.began} title={exact(run.began)} sx={{ color: 'text.secondary' }}>
            {clock(run.began)}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
