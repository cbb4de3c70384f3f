import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { lists, type Schemas } from '../api/client';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Moment } from '../looks/Moment';
import { StatusGlyph } from '../looks/StatusGlyph';
import { clock } from '../words/time';
import { count, statusWords } from '../words/words';

type Run = Schemas['RunSummary'];

/** A page of the card has so many. */
const PAGE = 15;

/** The runs of a node, the newest first; runs that found the same are one line. */
export function RunList({ node }: { node: string }) {
  const list = useList('run', lists.runs(node), { key: ['node', node, 'runs'], prefix: 'runs.', size: PAGE });
  return (
    <ListView
      label="Runs"
      nouns={['entry', 'entries']}
      list={list}
      columns={columnsOf(node)}
      keyOf={(run) => run.run ?? `${run.began}${run.last}`}
      example='run.status != "in_line"'
      empty={
        <Typography>
          No run yet. On the node: <Address>constans-agent daemon --once</Address>
        </Typography>
      }
    />
  );
}

function columnsOf(node: string): Column<Run>[] {
  return [
    { field: 'status', head: 'Run', text: runWords, cell: (run) => <RunCell node={node} run={run} /> },
    { field: 'last', head: 'Began', text: ({ last }) => last, cell: ({ last }) => <Moment at={last} />, isOneLine: true },
    { field: 'mode', head: 'Mode', text: ({ mode }) => mode, isHiddenFirst: true },
    { field: 'count', head: 'Runs', text: ({ count }) => count.toLocaleString('en'), align: 'right', isHiddenFirst: true },
    { field: 'began', head: 'First began', text: ({ began }) => began, cell: ({ began }) => <Moment at={began} />, isHiddenFirst: true },
    { field: 'learned', head: 'Learned', text: ({ learned }) => learned, cell: ({ learned }) => <Moment at={learned} />, isHiddenFirst: true },
  ];
}

function runWords(run: Run): string {
  const words = run.did_not_end ? 'did not end' : statusWords(run.status) + (run.partial ? ', partial' : '');
  return words + (run.mode === 'observe' ? ', observe' : '');
}

function RunCell({ node, run }: { node: string; run: Run }) {
  const more = [
    ...(run.count > 1 ? [`${count(run.count, 'run')} since ${clock(run.began)}`] : []),
    ...(run.missing > 0 ? [`${count(run.missing, 'run')} before it never reported`] : []),
  ].join(', ');
  return (
    <Box sx={{ display: 'flex', gap: 1 }}>
      <StatusGlyph status={run.status} size={18} />
      <Box sx={{ minWidth: 0 }}>
        {run.run ? (
          <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run.run}`} color="inherit">
            {runWords(run)}
          </Link>
        ) : (
          runWords(run)
        )}
        {more && <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{more}</Box>}
      </Box>
    </Box>
  );
}
