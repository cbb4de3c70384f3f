import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { Differences } from '../run/Differences';
import { clock, exact } from '../words/time';
import { count } from '../words/words';
import { acceptAddress } from './acceptAddress';

/** This many nodes of those that are alike are named. */
const NAMED = 12;

/** One clause on all nodes where it is not in line now: those with the same differences together. */
export function FoundAcross({ clause, found }: { clause: string; found: Schemas['FoundAcross'] }) {
  if (found.alike.length === 0) return <Typography>In line wherever it is desired and was examined.</Typography>;
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', gap: 2 }}>
      {found.alike.map((alike) => (
        <section key={`${alike.sort}${JSON.stringify(alike.differences)}`} aria-label={`On ${count(alike.nodes.length, 'node')}`}>
          <Typography>
            <b>{count(alike.nodes.length, 'node')}</b>: {alike.message}
          </Typography>
          <Differences differences={alike.differences} />
          {alike.differences.length === 0 && <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>What differs is not on record.</Typography>}
          <Typography sx={{ mt: 0.5, fontSize: 14 }}>
            {alike.nodes.slice(0, NAMED).map(({ node, since, run }, at) => (
              <span key={node}>
                {at > 0 && ' · '}
                <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run}?clause=${encodeURIComponent(clause)}`}>
                  {node}
                </Link>{' '}
                <time dateTime={since} title={exact(since)}>
                  since {clock(since)}
                </time>
              </span>
            ))}
            {alike.nodes.length > NAMED && ` and ${alike.nodes.length - NAMED} more`}
            {alike.differences.length > 0 && alike.nodes[0] && (
              <Link component={RouterLink} to={acceptAddress(alike.nodes[0].node, clause)} sx={{ ml: 2 }}>
                Accept…
              </Link>
            )}
          </Typography>
        </section>
      ))}
      {found.has_more_nodes && <Typography sx={{ color: 'text.secondary' }}>There are more nodes; use a filter.</Typography>}
    </Box>
  );
}
