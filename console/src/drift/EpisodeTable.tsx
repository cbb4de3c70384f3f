import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { Fragment } from 'react';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { StatusWord } from '../looks/StatusWord';
import { RelatedRecords } from '../run/RelatedRecords';
import { clock, exact } from '../words/time';
import { closedAs, count } from '../words/words';

/** Episodes, open ones first: where, between when it happened, how it ended; each leads to the run that detected it. */
export function EpisodeTable({ episodes }: { episodes: Schemas['NodeEpisode'][] }) {
  if (episodes.length === 0) return <Typography>None.</Typography>;
  return (
    <Table size="small" aria-label="Episodes">
      <TableHead>
        <TableRow>
          <TableCell>Node</TableCell>
          <TableCell>Clause</TableCell>
          <TableCell>Severity</TableCell>
          <TableCell>Changed between</TableCell>
          <TableCell>Ended</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {episodes.map((episode) => (
          <Fragment key={`${episode.node}${episode.address}${episode.detected_at}`}>
            <TableRow sx={episode.related ? { '& > td': { borderBottom: 0 } } : undefined}>
              <TableCell>
                <Link component={RouterLink} to={`/nodes/${encodeURIComponent(episode.node)}?clause=${encodeURIComponent(episode.address)}`}>
                  {episode.node}
                </Link>
              </TableCell>
              <TableCell>
                <Link
                  component={RouterLink}
                  to={`/nodes/${encodeURIComponent(episode.node)}/runs/${episode.detected_run}?clause=${encodeURIComponent(episode.address)}`}
                >
                  <Address>{episode.address}</Address>
                </Link>
              </TableCell>
              <TableCell>{episode.severity}</TableCell>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>
                <time dateTime={episode.in_line_until} title={exact(episode.in_line_until)}>
                  {clock(episode.in_line_until)}
                </time>
                {' and '}
                <time dateTime={episode.detected_at} title={exact(episode.detected_at)}>
                  {clock(episode.detected_at)}
                </time>
              </TableCell>
              <TableCell>
                <Ending episode={episode} />
              </TableCell>
            </TableRow>
            {episode.related && (
              <TableRow>
                <TableCell colSpan={5} sx={{ pt: 0 }}>
                  <details>
                    <summary>{onRecord(episode.related)}</summary>
                    <RelatedRecords words={episode.related.words} />
                  </details>
                </TableCell>
              </TableRow>
            )}
          </Fragment>
        ))}
      </TableBody>
    </Table>
  );
}

/** Whom the records name, and how many there are. */
function onRecord({ records, left_out }: Schemas['ShownRelated']): string {
  const accounts = [...new Set(records.map(({ account }) => account).filter(Boolean))];
  const named = accounts.length > 0 ? `, naming ${accounts.join(', ')}` : '';
  return `${count(records.length + (left_out ?? 0), 'related record')}${named}`;
}

function Ending({ episode: { closed_at, closed_as } }: { episode: Schemas['NodeEpisode'] }) {
  if (!closed_at) return <StatusWord status="drift_found" word="open" />;
  return (
    <>
      {closed_as ? closedAs(closed_as) : 'ended'},{' '}
      <time dateTime={closed_at} title={exact(closed_at)}>
        {clock(closed_at)}
      </time>
    </>
  );
}
