import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { asArgument } from '../lists/filter';
import { CopiedCommand } from '../looks/CopiedCommand';
import { QueryView } from '../shell/QueryView';
import { exact } from '../words/time';
import { count, moveReason } from '../words/words';
import { pointsWords } from './days';
import { onlyArgument } from './only';
import { rateWords } from './rate';

/** Why the rate moved between two moments: each clause on each node has one reason, and all of them add up. */
export function WhyItMoved({ filter, only, since, asOf }: { filter: string; only: string; since: string; asOf: string }) {
  const moves = useQuery({
    queryKey: ['compliance moves', filter, only, since, asOf],
    queryFn: ({ signal }) => api.complianceMoves({ since, filter: filter || undefined, only: only || undefined, as_of: asOf || undefined }, signal),
    meta: { isRefreshedByTimeOnly: true },
    refetchInterval: asOf ? false : undefined,
  });
  return (
    <>
      <Box sx={{ display: 'flex', justifyContent: 'space-between', gap: 1 }}>
        <Typography variant="h2">Why it moved</Typography>
        <CopiedCommand command={`constans compliance --since ${since}${asOf && ` --as-of ${asOf}`}${asArgument(filter)}${onlyArgument(only)}`} />
      </Box>
      <QueryView query={moves}>{(moves) => <Moves moves={moves} />}</QueryView>
    </>
  );
}

function Moves({ moves }: { moves: Schemas['ComplianceMoves'] }) {
  const total = moves.moves.reduce((sum, move) => sum + move.basis_points, 0);
  return (
    <>
      <Typography>
        {rateWords(moves.rate_before_basis_points)} → {rateWords(moves.rate_after_basis_points)}
      </Typography>
      <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
        from {exact(moves.since)} to {exact(moves.as_of)}
      </Typography>
      {moves.moves.length === 0 ? (
        <Typography sx={{ mt: 1 }}>Every clause on every node counts as before.</Typography>
      ) : (
        <Table size="small" aria-label="Why the rate moved">
          <TableBody>
            {moves.moves.map((move) => (
              <TableRow key={`${move.reason} ${move.change ?? ''}`}>
                <TableCell sx={{ pl: 0 }}>
                  {count(move.clauses, 'clause')} {moveReason(move.reason)}
                  <ByChange no={move.change} changes={moves.changes} />
                </TableCell>
                <TableCell align="right" sx={{ pr: 0, verticalAlign: 'top', fontVariantNumeric: 'tabular-nums' }}>
                  {pointsWords(move.basis_points)}
                </TableCell>
              </TableRow>
            ))}
            <TableRow>
              <TableCell sx={{ pl: 0, color: 'text.secondary' }}>points in all</TableCell>
              <TableCell align="right" sx={{ pr: 0, fontWeight: 600, fontVariantNumeric: 'tabular-nums' }}>
                {pointsWords(total)}
              </TableCell>
            </TableRow>
          </TableBody>
        </Table>
      )}
    </>
  );
}

function ByChange({ no, changes }: { no?: number | null; changes: Schemas['NamedChange'][] }) {
  if (no == null) return null;
  const change = changes.find((change) => change.no === no);
  return (
    <>
      {' by '}
      <Link component={RouterLink} to={`/changes/C${no}`}>
        C{no}
      </Link>
      {change && (
        <Typography component="div" sx={{ fontSize: 13, color: 'text.secondary' }}>
          {change.what}, {change.who}
          {change.approved_by && `, approved by ${change.approved_by}`}
        </Typography>
      )}
    </>
  );
}
