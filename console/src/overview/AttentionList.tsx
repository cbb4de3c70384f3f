import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { listOf, namesFilter } from '../lists/filter';
import { Address } from '../looks/Address';
import { StatusGlyph } from '../looks/StatusGlyph';
import { clock, exact } from '../words/time';

/** One entry per problem, the most severe first, linked to its cause. */
export function AttentionList({ attention, now }: { attention: Schemas['Attention'][]; now: number }) {
  if (attention.length === 0) return <Typography>Nothing. Every node that reports is in line.</Typography>;
  return (
    <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
      {attention.map((one) => (
        <Sentence key={one.title} one={one} now={now} />
      ))}
    </Box>
  );
}

/** The page of the only node, at the clause; the list of nodes if there are several. */
function causeOf(one: Schemas['Attention']): string {
  if (one.rollout != null) return changeAddress(one.rollout);
  if (one.concession != null) return '/compliance/concessions';
  const [only] = one.nodes;
  if (one.nodes.length !== 1 || only === undefined) return listOf(namesFilter(one.nodes));
  return `/nodes/${encodeURIComponent(only)}${one.address ? `?clause=${encodeURIComponent(one.address)}` : ''}`;
}

function Sentence({ one, now }: { one: Schemas['Attention']; now: number }) {
  return (
    <Box
      component="li"
      sx={{ display: 'flex', gap: 1.5, py: 1.25, borderTop: '1px solid', borderColor: 'divider', '&:first-of-type': { borderTop: 0, pt: 0 } }}
    >
      <StatusGlyph status={one.status} size={22} />
      <Box sx={{ flex: 1, minWidth: 0 }}>
        <Link component={RouterLink} to={causeOf(one)} color="inherit" sx={{ fontWeight: 600, overflowWrap: 'anywhere' }}>
          {one.title}
        </Link>
        <Typography sx={{ color: 'text.secondary', fontSize: 14, overflowWrap: 'anywhere' }}>{one.detail}</Typography>
      </Box>
      <Box sx={{ textAlign: 'right', color: 'text.secondary', fontSize: 14, flex: 'none', maxWidth: '34%' }}>
        {one.since && <time dateTime={one.since} title={exact(one.since)}>{`since ${clock(one.since, new Date(now))}`}</time>}
        {one.address && (
          <Box sx={{ color: 'primary.main' }}>
            <Address>{one.address}</Address>
          </Box>
        )}
      </Box>
    </Box>
  );
}
