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

interface Shown {
  by: string;
  rows: Schemas['DriftRow'][];
  hasMoreRows: boolean;
  onClause: (clause: string) => void;
}

/** Episodes by the keys of a dimension, those with the most open ones first. */
export function DriftTable({ by, rows, hasMoreRows, onClause }: Shown) {
  if (rows.length === 0) return <Typography>No drift in this period.</Typography>;
  return (
    <>
      <Wide>
        <Table size="small" aria-label={`Drift by ${by}`}>
          <TableHead>
            <TableRow>
              <TableCell sx={{ '&::first-letter': { textTransform: 'uppercase' } }}>{by}</TableCell>
              {NUMBERS.map(([number, title]) => (
                <TableCell key={number} align="right">
                  {title}
                </TableCell>
              ))}
              <TableCell align="right">Detected within</TableCell>
              <TableCell align="right">Corrected after</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {rows.map(({ key, figures }) => (
              <TableRow key={key ?? ''}>
                <TableCell sx={{ fontFamily: key ? mono : undefined, fontSize: 13, overflowWrap: 'anywhere' }}>
                  <KeyName by={by} name={key ?? undefined} onClause={onClause} />
                </TableCell>
                {NUMBERS.map(([number]) => (
                  <TableCell key={number} align="right">
                    {figures[number].toLocaleString('en')}
                  </TableCell>
                ))}
                <TableCell align="right">{half(figures.detected_within)}</TableCell>
                <TableCell align="right">{half(figures.corrected_after)}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Wide>
      <CsvButton
        name={`drift by ${by}`}
        heads={[by, ...NUMBERS.map(([number]) => number), 'detected within, s', 'corrected after, s']}
        rows={() =>
          rows.map(({ key, figures }) => [
            key ?? '',
            ...NUMBERS.map(([number]) => String(figures[number])),
            String(figures.detected_within?.median_secs ?? ''),
            String(figures.corrected_after?.median_secs ?? ''),
          ])
        }
      />
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
