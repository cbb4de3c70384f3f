import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { type WholeColumn, WholeTable } from '../lists/WholeTable';
import { mono } from '../looks/theme';
import { span } from '../words/time';

const NUMBERS = [
  ['nodes', 'Nodes'],
  ['episodes', 'Episodes'],
  ['open', 'Open'],
  ['only_reported', 'Only reported'],
  ['corrected', 'Corrected'],
  ['by_hand', 'By hand'],
  ['by_rollout', 'By rollout'],
] as const;

const SPANS = [
  ['detected_within', 'Detected within'],
  ['corrected_after', 'Corrected after'],
] as const;

interface Shown {
  by: string;
  rows: Schemas['DriftRow'][];
  hasMoreRows: boolean;
  onClause: (clause: string) => void;
}

/** Episodes by the keys of a dimension, those with the most open ones first. */
export function DriftTable({ by, rows, hasMoreRows, onClause }: Shown) {
  if (rows.length === 0) return <Typography>No drift in this period.</Typography>;
  const columns: WholeColumn<Schemas['DriftRow']>[] = [
    {
      field: 'key',
      head: by.charAt(0).toUpperCase() + by.slice(1),
      text: ({ key }) => key ?? `no ${by}`,
      cell: ({ key }) => (
        <Box component="span" sx={{ fontFamily: key ? mono : undefined, fontSize: 13 }}>
          <KeyName by={by} name={key ?? undefined} onClause={onClause} />
        </Box>
      ),
      order: ({ key }) => key ?? '',
    },
    ...NUMBERS.map(
      ([number, head]): WholeColumn<Schemas['DriftRow']> => ({
        field: number,
        head,
        align: 'right',
        text: ({ figures }) => String(figures[number]),
        cell: ({ figures }) => figures[number].toLocaleString('en'),
        order: ({ figures }) => figures[number],
      }),
    ),
    ...SPANS.map(
      ([durations, head]): WholeColumn<Schemas['DriftRow']> => ({
        field: durations,
        head,
        align: 'right',
        text: ({ figures }) => half(figures[durations]),
        order: ({ figures }) => figures[durations].median_secs ?? -1,
      }),
    ),
  ];
  return (
    <>
      <WholeTable label={`Drift by ${by}`} name="drift" columns={columns} rows={rows} keyOf={({ key }) => key ?? ''} />
      <Typography sx={{ mt: 1, color: 'text.secondary', fontSize: 13 }}>
        Half of the episodes were detected, and corrected, within these spans.{hasMoreRows && ' There are more rows: use a filter.'}
      </Typography>
    </>
  );
}

function KeyName({ by, name, onClause }: { by: string; name?: string; onClause: (clause: string) => void }) {
  if (name === undefined) return `no ${by}`;
  if (by === 'clause') {
    return (
      <Link component="button" onClick={() => onClause(name)} sx={{ font: 'inherit', textAlign: 'left' }}>
        {name}
      </Link>
    );
  }
  if (by === 'node') {
    return (
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(name)}`}>
        {name}
      </Link>
    );
  }
  return name;
}

function half({ median_secs }: Schemas['Durations']): string {
  return median_secs == null ? '–' : span(median_secs);
}
