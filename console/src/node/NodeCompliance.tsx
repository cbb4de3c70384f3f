import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { rateWords } from '../compliance/rate';
import { ShareBar } from '../compliance/ShareBar';
import { mono } from '../looks/theme';

/** The controls that the clauses of a node satisfy, and whether it satisfies each. */
export function NodeCompliance({ compliance: { rows } }: { compliance: Schemas['Compliance'] }) {
  const controls = rows.filter(({ key }) => key != null);
  if (controls.length === 0) return <Typography>Its clauses satisfy no control.</Typography>;
  return (
    <Table size="small" aria-label="Compliance by control">
      <TableHead>
        <TableRow>
          <TableCell>Control</TableCell>
          <TableCell>Result</TableCell>
          <TableCell>Clauses</TableCell>
          <TableCell align="right">As found</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {controls.map((row) => (
          <TableRow key={row.key}>
            <TableCell>
              <Box component="span" sx={{ fontFamily: mono, fontSize: 13, mr: 1 }}>
                {row.key}
              </Box>
              {row.title}
            </TableCell>
            <TableCell sx={{ whiteSpace: 'nowrap' }}>{result(row.nodes)}</TableCell>
            <TableCell sx={{ width: '25%' }}>
              <ShareBar clauses={row.clauses} />
            </TableCell>
            <TableCell align="right">{rateWords(row.rate_basis_points)}</TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

/** Of one node: exactly one of the counts is 1. */
function result({ without_deviation, with_deviation, conceded }: Schemas['NodeCounts']): string {
  if (without_deviation > 0) return 'satisfied';
  if (with_deviation > 0) return 'not satisfied';
  return conceded > 0 ? 'conceded' : 'not known';
}
