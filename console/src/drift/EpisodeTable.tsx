import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import type { List } from '../lists/useList';
import { Address } from '../looks/Address';
import { Moment } from '../looks/Moment';
import { StatusWord } from '../looks/StatusWord';
import { RelatedRecords } from '../run/RelatedRecords';
import { RunNowButton } from '../sweeps/RunNowButton';
import { closedAs, count } from '../words/words';

type Episode = Schemas['NodeEpisode'];

const ofClause = (address: string) => `clause=${encodeURIComponent(address)}`;

const COLUMNS: Column<Episode>[] = [
  {
    field: 'node',
    head: 'Node',
    text: ({ node }) => node,
    cell: ({ node, address }) => (
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}?${ofClause(address)}`}>
        {node}
      </Link>
    ),
  },
  {
    field: 'address',
    head: 'Clause',
    text: ({ address }) => address,
    cell: ({ node, address, detected_run }) => (
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${detected_run}?${ofClause(address)}`}>
        <Address>{address}</Address>
      </Link>
    ),
  },
  { field: 'severity', head: 'Severity', text: ({ severity }) => severity },
  { field: 'in_line_until', head: 'In line until', text: ({ in_line_until }) => in_line_until, cell: ({ in_line_until }) => <Moment at={in_line_until} /> },
  { field: 'detected_at', head: 'Detected', text: ({ detected_at }) => detected_at, cell: ({ detected_at }) => <Moment at={detected_at} /> },
  { field: 'closed_as', head: 'Ended', text: endingText, cell: (episode) => <Ending episode={episode} /> },
  { field: 'closed_at', head: 'When it ended', text: ({ closed_at }) => closed_at ?? '', isHiddenFirst: true },
];

/** Episodes, open ones first: where, between when it happened, how it ended; each leads to the run that detected it. */
export function EpisodeTable({ list }: { list: List<Episode> }) {
  return (
    <ListView
      label="Episodes"
      nouns={['episode', 'episodes']}
      list={list}
      columns={COLUMNS}
      keyOf={({ node, address, detected_at }) => `${node} ${address} ${detected_at}`}
      empty={<Typography>None.</Typography>}
      actions={({ node, address, closed_at }) =>
        !closed_at && <RunNowButton nodes={[node]} where={node} part={{ clauses: [address] }} correctOnce variant="text" label={`${address} on ${node}`} />
      }
      below={({ related }) =>
        related && (
          <details>
            <summary>{onRecord(related)}</summary>
            <RelatedRecords words={related.words} />
          </details>
        )
      }
    />
  );
}

function endingText({ closed_at, closed_as, drill }: Episode): string {
  const ending = closed_at ? (closed_as ? closedAs(closed_as) : 'ended') : 'open';
  return drill ? `${ending}, drill D${drill}` : ending;
}

/** Whom the records name, and how many there are. */
function onRecord({ records, left_out }: Schemas['ShownRelated']): string {
  const accounts = [...new Set(records.map(({ account }) => account).filter(Boolean))];
  const named = accounts.length > 0 ? `, naming ${accounts.join(', ')}` : '';
  return `${count(records.length + (left_out ?? 0), 'related record')}${named}`;
}

function Ending({ episode }: { episode: Episode }) {
  if (!episode.closed_at) return <StatusWord status="drift_found" word="open" />;
  return (
    <>
      {endingText(episode)}, <Moment at={episode.closed_at} />
    </>
  );
}
