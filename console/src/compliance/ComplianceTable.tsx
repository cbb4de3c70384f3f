import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { CsvButton } from '../looks/CsvButton';
import { mono } from '../looks/theme';
import { Wide } from '../looks/Wide';
import { listOf } from '../nodes/filter';
import { deviationCause } from '../words/words';
import { onlyOf, onlyWords } from './only';
import { rateWords } from './rate';
import { ShareBar } from './ShareBar';

const NUMBERS = ['noncompliant', 'conceded', 'unexamined', 'unknown'] as const;

interface Counted {
  by: string;
  rows: Schemas['ComplianceRow'][];
  hasMoreRows: boolean;
  /** Asks about the clauses of one key alone. */
  onOnly?: (only: string) => void;
}

/** Clauses and nodes by the keys of a dimension, those with the most noncompliant clauses first. */
export function ComplianceTable({ by, rows, hasMoreRows, onOnly }: Counted) {
  if (rows.length === 0) return <Typography>There are no clauses to count.</Typography>;
  return (
    <>
      <Wide>
        <Table size="small" aria-label={`Compliance by ${by}`}>
          <TableHead>
            <TableRow>
              <TableCell>{titled(by)}</TableCell>
              <TableCell>Clauses</TableCell>
              <TableCell align="right">As found</TableCell>
              <TableCell align="right">With concessions</TableCell>
              {NUMBERS.map((number) => (
                <TableCell key={number} align="right">
                  {titled(number)}
                </TableCell>
              ))}
              <TableCell align="right">Nodes without deviation</TableCell>
              <TableCell align="right">Nodes with a critical one</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map((row) => (
              <ComplianceTableRow key={row.key ?? ''} by={by} row={row} onOnly={onOnly} />
            ))}
          </TableBody>
        </Table>
      </Wide>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', mt: 1 }}>
        <CsvButton name={`compliance by ${by}`} heads={[by, 'title', ...CSV.map(([head]) => head)]} rows={() => rows.map(cells)} />
        {hasMoreRows && <Typography sx={{ color: 'text.secondary' }}>There are more: use a filter, or count by something else.</Typography>}
      </Box>
    </>
  );
}

/** What a file has of a row: numbers as they are counted, rates in hundredths of a percent. */
const CSV: [string, (row: Schemas['ComplianceRow']) => number | null | undefined][] = [
  ['compliant', ({ clauses }) => clauses.compliant],
  ...[...NUMBERS, 'in_doubt' as const].map((number): [string, (row: Schemas['ComplianceRow']) => number] => [number, ({ clauses }) => clauses[number]]),
  ['rate as found, basis points', (row) => row.rate_basis_points],
  ['rate with concessions, basis points', (row) => row.rate_with_concessions_basis_points],
  ['nodes without deviation', ({ nodes }) => nodes.without_deviation],
  ['nodes with deviation', ({ nodes }) => nodes.with_deviation],
  ['nodes with a critical one', ({ nodes }) => nodes.with_critical],
  ['nodes with only conceded ones', ({ nodes }) => nodes.conceded],
  ['nodes not known', ({ nodes }) => nodes.not_known],
];

function cells(row: Schemas['ComplianceRow']): string[] {
  return [row.key ?? '', row.title ?? '', ...CSV.map(([, number]) => String(number(row) ?? ''))];
}

function titled(word: string): string {
  return word.charAt(0).toUpperCase() + word.slice(1);
}

function ComplianceTableRow({ by, row, onOnly }: { by: string; row: Schemas['ComplianceRow']; onOnly?: Counted['onOnly'] }) {
  const { nodes, clauses } = row;
  const of = nodes.without_deviation + nodes.with_deviation + nodes.not_known + nodes.conceded;
  const address = row.key ? addressOf(by, row.key) : undefined;
  const only = row.key ? onlyOf(by, row.key) : undefined;
  const words = by === 'cause' ? deviationCause : String;
  const key = row.key ? words(row.key) : `no ${by}`;
  return (
    <TableRow>
      <TableCell sx={{ fontFamily: row.key ? mono : undefined, fontSize: 13, overflowWrap: 'anywhere' }}>
        {address ? (
          <Link component={RouterLink} to={address}>
            {key}
          </Link>
        ) : only && onOnly ? (
          <Link
            component="button"
            onClick={() => onOnly(only)}
            title={`Only clauses of ${onlyWords(only)}`}
            sx={{ font: 'inherit', verticalAlign: 'baseline', textAlign: 'left' }}
          >
            {key}
          </Link>
        ) : (
          key
        )}
        {row.title && <Box sx={{ color: 'text.secondary', fontFamily: 'body1.fontFamily' }}>{row.title}</Box>}
      </TableCell>
      <TableCell sx={{ width: '22%' }}>
        <ShareBar clauses={clauses} />
      </TableCell>
      <TableCell align="right">{rateWords(row.rate_basis_points)}</TableCell>
      <TableCell align="right">{rateWords(row.rate_with_concessions_basis_points)}</TableCell>
      {NUMBERS.map((number) => (
        <TableCell key={number} align="right">
          {clauses[number].toLocaleString('en')}
        </TableCell>
      ))}
      <TableCell align="right">
        {nodes.without_deviation.toLocaleString('en')} of {of.toLocaleString('en')}
      </TableCell>
      <TableCell align="right">{nodes.with_critical.toLocaleString('en')}</TableCell>
    </TableRow>
  );
}

function labelField(label: string): string {
  return /^[A-Za-z_]\w*$/.test(label) ? `labels.${label}` : `labels[${JSON.stringify(label)}]`;
}

/** Where the nodes of a key are listed. */
function addressOf(by: string, key: string): string | undefined {
  const text = JSON.stringify(key);
  if (by === 'node') return `/nodes/${encodeURIComponent(key)}`;
  if (by === 'stage') return listOf(`node.stage == ${text}`);
  if (by === 'group') return listOf(`${text} in node.groups`);
  if (by === 'release') return listOf(`${text} in node.releases`);
  if (by.startsWith('label:')) return listOf(`${labelField(by.slice('label:'.length))} == ${text}`);
  return undefined;
}
