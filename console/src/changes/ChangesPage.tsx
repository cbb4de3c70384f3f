import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { CsvButton } from '../looks/CsvButton';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { clock, exact } from '../words/time';
import { changeAddress, progressWords } from './changeWords';

/** What changed: who, when, why, and how many nodes have it. */
export function ChangesPage() {
  const changes = useQuery({ queryKey: ['changes'], queryFn: ({ signal }) => api.changes(signal) });
  return (
    <Page title="Changes">
      <QueryView query={changes}>
        {(changes) =>
          changes.length === 0 ? (
            <Typography>
              No changes yet. Assign a baseline with <Address>constans group set FILE</Address>.
            </Typography>
          ) : (
            <Card title="Changes of desired state" aside={<Aside changes={changes} />}>
              <Table size="small" aria-label="Changes">
                <TableHead>
                  <TableRow>
                    <TableCell>Change</TableCell>
                    <TableCell>What</TableCell>
                    <TableCell>Who and why</TableCell>
                    <TableCell>When</TableCell>
                    <TableCell>Progress</TableCell>
                  </TableRow>
                </TableHead>
                <TableBody>
                  {changes.map((change) => (
                    <ChangeRow key={change.no} change={change} />
                  ))}
                </TableBody>
              </Table>
            </Card>
          )
        }
      </QueryView>
    </Page>
  );
}

function Aside({ changes }: { changes: Schemas['ChangeSummary'][] }) {
  const rows = () => changes.map((change) => [`C${change.no}`, change.what, change.who, change.because ?? '', change.drafted, progressWords(change)]);
  return (
    <span>
      <CsvButton name="changes" heads={['change', 'what', 'who', 'because', 'when', 'progress']} rows={rows} />
      <CopiedCommand command="constans change list" />
    </span>
  );
}

function ChangeRow({ change }: { change: Schemas['ChangeSummary'] }) {
  return (
    <TableRow>
      <TableCell>
        <Link component={RouterLink} to={changeAddress(change.no)}>
          C{change.no}
        </Link>
      </TableCell>
      <TableCell>{change.what}</TableCell>
      <TableCell>
        {change.who}
        {change.because && `: “${change.because}”`}
      </TableCell>
      <TableCell sx={{ whiteSpace: 'nowrap' }}>
        <time dateTime={change.drafted} title={exact(change.drafted)}>
          {clock(change.drafted)}
        </time>
      </TableCell>
      <TableCell sx={{ whiteSpace: 'nowrap' }}>{progressWords(change)}</TableCell>
    </TableRow>
  );
}
