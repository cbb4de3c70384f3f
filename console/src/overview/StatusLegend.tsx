import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { both, listOf } from '../lists/filter';
import { StatusGlyph } from '../looks/StatusGlyph';
import { statusWords } from '../words/words';

/** The number of nodes by status, linked to the lists of these nodes. */
export function StatusLegend({ statuses, filter }: { statuses: Schemas['StatusCount'][]; filter: string }) {
  return (
    <Box component="ul" aria-label="Nodes by status" sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, rowGap: 0.5, listStyle: 'none', p: 0, m: 0 }}>
      {statuses.map(({ status, nodes }) => (
        <li key={status}>
          <Link
            component={RouterLink}
            to={listOf(both(filter, `node.status == "${status}"`))}
            color="inherit"
            sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.75, color: 'text.secondary' }}
          >
            <StatusGlyph status={status} />
            <Box component="strong" sx={{ color: 'text.primary' }}>
              {nodes}
            </Box>
            {statusWords(status)}
          </Link>
        </li>
      ))}
    </Box>
  );
}
