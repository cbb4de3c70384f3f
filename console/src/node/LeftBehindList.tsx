import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { clock, exact } from '../words/time';

/** What the node keeps of clauses that are no longer wanted, until somebody makes it gone. */
export function LeftBehindList({ left }: { left: Schemas['LeftBehind'][] }) {
  if (left.length === 0) return <Typography>Nothing: everything that Constans applied here is still desired, or was removed.</Typography>;
  return (
    <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0, fontSize: 14 }}>
      {left.map((one) => (
        <Box component="li" key={one.address} sx={{ py: 0.375 }}>
          <Address>{one.address}</Address>
          <Box sx={{ color: 'text.secondary' }}>
            desired until{' '}
            <time dateTime={one.wanted_until} title={exact(one.wanted_until)}>
              {clock(one.wanted_until)}
            </time>{' '}
            by {one.origins.map(({ kit, version, baseline }) => `${kit}@${version}/${baseline}`).join(', ')}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
