import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { SignGlyph } from '../looks/SignGlyph';
import { both, listOf } from '../nodes/filter';
import { words } from '../words/words';

/** How many nodes are shown by which sign; each leads to the list of just those. */
export function SignLegend({ signs, filter }: { signs: Schemas['SignCount'][]; filter: string }) {
  return (
    <Box component="ul" aria-label="Nodes by sign" sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, rowGap: 0.5, listStyle: 'none', p: 0, m: 0 }}>
      {signs.map(({ sign, nodes }) => (
        <li key={sign}>
          <Link
            component={RouterLink}
            to={listOf(both(filter, `node.sign == "${sign}"`))}
            color="inherit"
            sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.75, color: 'text.secondary' }}
          >
            <SignGlyph sign={sign} />
            <Box component="strong" sx={{ color: 'text.primary' }}>
              {nodes}
            </Box>
            {words(sign)}
          </Link>
        </li>
      ))}
    </Box>
  );
}
