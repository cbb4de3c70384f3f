import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { exact } from '../words/time';
import { count } from '../words/words';
import { appliedWords, clauseLines } from './changeWords';

/** What a change alters: clauses taken first, then changed and new ones, services that restart, and what stands in its way. */
export function ImpactView({ impact, isNarrow = false }: { impact: Schemas['Impact']; isNarrow?: boolean }) {
  const lines = clauseLines(impact);
  return (
    <Box sx={{ display: 'grid', gap: 1 }}>
      <Typography>
        {impact.nodes === 0 ? 'No node is given anything else.' : `Affects ${count(impact.nodes, 'node')}.`}
        {impact.settings > 0 && ` Other settings of the agent on ${count(impact.settings, 'node')}.`}
        {impact.takes > 0 && ` Takes ${count(impact.takes, 'clause')} from ${count(impact.takes_from, 'node')}.`}
      </Typography>
      {lines.length > 0 && (
        <Table size="small" aria-label="Clauses">
          <TableBody>
            {lines.map((line) => (
              <TableRow key={line.verb + line.address}>
                <TableCell sx={{ whiteSpace: 'nowrap', width: '1%', fontWeight: line.verb === 'taken from' ? 600 : undefined }}>
                  {line.verb} {count(line.nodes, 'node')}
                </TableCell>
                <TableCell>
                  <Address>{line.address}</Address>
                </TableCell>
                {!isNarrow && <TableCell sx={{ color: 'text.secondary' }}>{line.examples}</TableCell>}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
      {impact.clauses_left_out > 0 && <Typography>{count(impact.clauses_left_out, 'more clause')} not listed.</Typography>}
      {impact.restarts.map((restart) => (
        <Typography key={restart.address}>
          <Address>{restart.address}</Address> restarts on {count(restart.nodes, 'node')}.
        </Typography>
      ))}
      {(impact.applied ?? []).map((applied) => (
        <Typography key={JSON.stringify(applied)}>{appliedWords(applied)}</Typography>
      ))}
      {(impact.restarting ?? []).map(({ node, since, because, at, left }) => (
        <Typography key={node}>
          <b>{node}</b> has a restart pending since {exact(since)} ({because.join(', ')}):{' '}
          {left ? `it is left, ${left}` : at ? `at ${exact(at)}` : 'with its next run'}.
        </Typography>
      ))}
      {(impact.not_served ?? []).map((baseline) => (
        <Alert key={baseline} severity="warning" variant="outlined">
          <Address>{baseline}</Address> is assigned, but its stage serves no release of the kit.
        </Alert>
      ))}
      {impact.unusable.length > 0 && (
        <Alert severity="error" variant="outlined">
          {count(impact.unusable.length, 'node')} cannot be resolved:{' '}
          {impact.unusable
            .slice(0, 3)
            .map((pair) => pair.join(': '))
            .join('; ')}
        </Alert>
      )}
    </Box>
  );
}
