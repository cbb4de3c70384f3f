import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { listOf } from '../lists/filter';
import { type WholeColumn, WholeTable } from '../lists/WholeTable';
import { mono } from '../looks/theme';
import { deviationCause } from '../words/words';
import { onlyOf, onlyWords } from './only';
import { rateWords } from './rate';
import { ShareBar } from './ShareBar';

type Row = Schemas['ComplianceRow'];

interface Counted {
  by: string;
  rows: Row[];
  hasMoreRows: boolean;
  /** Asks about the clauses of one key alone. */
  onOnly?: (only: string) => void;
}

/** Clauses and nodes by the keys of a dimension, those with the most noncompliant clauses first. */
export function ComplianceTable({ by, rows, hasMoreRows, onOnly }: Counted) {
  if (rows.length === 0) return <Typography>There are no clauses to count.</Typography>;
  const key: WholeColumn<Row> = {
    field: 'key',
    head: titled(by),
    text: (row) => keyWords(by, row),
    cell: (row) => <Key by={by} row={row} onOnly={onOnly} />,
    order: (row) => keyWords(by, row),
  };
  return (
    <>
      <WholeTable label={`Compliance by ${by}`} name="compliance" columns={[key, ...FIGURES]} rows={rows} keyOf={(row) => row.key ?? ''} />
      {hasMoreRows && <Typography sx={{ color: 'text.secondary' }}>There are more: use a filter, or count by something else.</Typography>}
    </>
  );
}

const titleOf: WholeColumn<Row> = { field: 'title', head: 'Title', text: ({ title }) => title ?? '', isHiddenFirst: true };
const share: WholeColumn<Row> = {
  field: 'clauses',
  head: 'Clauses compliant',
  width: '22%',
  text: ({ clauses }) => String(clauses.compliant),
  cell: ({ clauses }) => <ShareBar clauses={clauses} />,
  order: ({ clauses }) => clauses.compliant,
};

function number(field: string, head: string, of: (row: Row) => number, isHiddenFirst = false): WholeColumn<Row> {
  return { field, head, align: 'right', text: (row) => String(of(row)), cell: (row) => of(row).toLocaleString('en'), order: of, isHiddenFirst };
}

function rate(field: string, head: string, of: (row: Row) => number | null | undefined): WholeColumn<Row> {
  return { field, head, align: 'right', text: (row) => rateWords(of(row)), order: (row) => of(row) ?? -1 };
}

const FIGURES: WholeColumn<Row>[] = [
  titleOf,
  share,
  rate('rate', 'As found', (row) => row.rate_basis_points),
  rate('rate_with_concessions', 'With concessions', (row) => row.rate_with_concessions_basis_points),
  number('noncompliant', 'Noncompliant', ({ clauses }) => clauses.noncompliant),
  number('conceded', 'Conceded', ({ clauses }) => clauses.conceded),
  number('unexamined', 'Unexamined', ({ clauses }) => clauses.unexamined),
  number('unknown', 'Unknown', ({ clauses }) => clauses.unknown),
  number('in_doubt', 'In doubt', ({ clauses }) => clauses.in_doubt, true),
  {
    ...number('without_deviation', 'Nodes without deviation', ({ nodes }) => nodes.without_deviation),
    cell: ({ nodes }) => `${nodes.without_deviation.toLocaleString('en')} of ${allNodes(nodes).toLocaleString('en')}`,
  },
  number('nodes', 'Nodes', ({ nodes }) => allNodes(nodes), true),
  number('with_deviation', 'Nodes with deviation', ({ nodes }) => nodes.with_deviation, true),
  number('with_critical', 'Nodes with a critical one', ({ nodes }) => nodes.with_critical),
  number('only_conceded', 'Nodes with only conceded ones', ({ nodes }) => nodes.conceded, true),
  number('not_known', 'Nodes not known', ({ nodes }) => nodes.not_known, true),
];

function allNodes(nodes: Row['nodes']): number {
  return nodes.without_deviation + nodes.with_deviation + nodes.not_known + nodes.conceded;
}

function titled(word: string): string {
  return word.charAt(0).toUpperCase() + word.slice(1);
}

function keyWords(by: string, { key }: Row): string {
  if (!key) return `no ${by}`;
  return by === 'cause' ? deviationCause(key) : key;
}

function Key({ by, row, onOnly }: { by: string; row: Row; onOnly?: Counted['onOnly'] }) {
  const address = row.key ? addressOf(by, row.key) : undefined;
  const only = row.key ? onlyOf(by, row.key) : undefined;
  const key = keyWords(by, row);
  return (
    <Box component="span" sx={{ fontFamily: row.key ? mono : undefined, fontSize: 13 }}>
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
    </Box>
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
