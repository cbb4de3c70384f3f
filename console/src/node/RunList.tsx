import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { StatusGlyph } from '../looks/StatusGlyph';
import { clock, exact } from '../words/time';
import { count, statusWords } from '../words/words';

const FIRST = 12;

/** The runs of a node, the newest first; runs that found the same are one line. `onOlder` brings those before them, if there are any. */
export function RunList({ node, runs, onOlder }: { node: string; runs: Schemas['RunSummary'][]; onOlder?: () => void }) {
  const [showsAll, setShowsAll] = useState(false);
  if (runs.length === 0) {
    return (
      <Typography>
        No run yet. On the node: <Address>constans-agent daemon --once</Address>
      </Typography>
    );
  }
  const shown = showsAll ? runs : runs.slice(0, FIRST);
  return (
    <>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0, fontSize: 14 }}>
        {shown.map((run) => (
          <Box component="li" key={run.run ?? `${run.began}${run.last}`} sx={{ display: 'flex', gap: 1, py: 0.375 }}>
            <StatusGlyph status={run.status} size={18} />
            <Box sx={{ flex: 1, minWidth: 0 }}>
              <RunWords node={node} run={run} />
              {run.run && run.count > 1 && <Box component="span" sx={{ color: 'text.secondary' }}>{`, ${run.count} runs since ${clock(run.began)}`}</Box>}
              {run.missing > 0 && <Box component="span" sx={{ color: 'text.secondary' }}>{`, ${count(run.missing, 'run')} before it never reported`}</Box>}
            </Box>
            <Box component="time" dateTime={run.last} title={exact(run.last)} sx={{ color: 'text.secondary', whiteSpace: 'nowrap' }}>
              {clock(run.last)}
            </Box>
          </Box>
        ))}
      </Box>
      {runs.length > shown.length && (
        <Button variant="text" sx={{ px: 0 }} onClick={() => setShowsAll(true)}>
          {runs.length - shown.length} more
        </Button>
      )}
      {runs.length === shown.length && onOlder && (
        <Button variant="text" sx={{ px: 0 }} onClick={onOlder}>
          Older runs
        </Button>
      )}
    </>
  );
}

function RunWords({ node, run }: { node: string; run: Schemas['RunSummary'] }) {
  if (!run.run) return <>{run.count === 1 ? 'in line' : `${count(run.count, 'run')} in line since ${clock(run.began)}`}</>;
  return (
    <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run.run}`} color="inherit">
      {run.did_not_end ? 'did not end' : statusWords(run.status) + (run.partial ? ', partial' : '')}
      {run.mode === 'observe' ? ', observe' : ''}
    </Link>
  );
}
