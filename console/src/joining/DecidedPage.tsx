import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { clock, exact } from '../words/time';
import { JoiningTabs } from './JoiningTabs';

/** What was decided of joining requests, by whom or by which rule. */
export function DecidedPage() {
  const [parameters, set] = useParameters();
  const only = parameters.get('only') === 'approved' ? 'approved' : 'denied';
  const requests = useQuery({ queryKey: ['joining', only], queryFn: ({ signal }) => api.joiningRequests(only, signal) });
  return (
    <Page title="Decided requests" heading={<JoiningTabs />}>
      <Card
        title="Decided requests"
        aside={
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
            <ToggleButtonGroup size="small" exclusive value={only} onChange={(_, only) => only && set({ only })} aria-label="Which requests">
              <ToggleButton value="denied">denied</ToggleButton>
              <ToggleButton value="approved">approved</ToggleButton>
            </ToggleButtonGroup>
            <CopiedCommand command={`constans join list --${only}`} />
          </Box>
        }
      >
        <QueryView query={requests}>{(requests) => <DecidedTable requests={requests} only={only} />}</QueryView>
      </Card>
    </Page>
  );
}

function DecidedTable({ requests, only }: { requests: Schemas['JoiningRequest'][]; only: string }) {
  if (requests.length === 0) return <Typography>No request was {only}.</Typography>;
  return (
    <Table size="small" aria-label="Decided requests" sx={{ '& td': { verticalAlign: 'top' } }}>
      <TableHead>
        <TableRow>
          <TableCell>Machine</TableCell>
          <TableCell>Decided</TableCell>
          <TableCell sx={{ width: 330 }}>Fingerprint of its key</TableCell>
          <TableCell>Asked</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {requests.map(({ id, name, decision, fingerprint, requested_at, address }) => (
          <TableRow key={id}>
            <TableCell>
              {decision?.node ? (
                <Link component={RouterLink} to={`/nodes/${encodeURIComponent(decision.node)}`}>
                  {decision.node}
                </Link>
              ) : (
                name
              )}
              <Box sx={{ color: 'text.secondary', fontSize: 13 }}>
                {decision?.node && decision.node !== name && `asked as ${name}`}
                {decision?.is_approved && !decision.node && 'retired since'}
              </Box>
            </TableCell>
            <TableCell>
              {decision && (
                <>
                  {decision.is_approved ? 'approved' : 'denied'} by {decision.rule ? `the rule A${decision.rule} of ` : ''}
                  {decision.who},{' '}
                  <time dateTime={decision.at} title={exact(decision.at)}>
                    {clock(decision.at)}
                  </time>
                  {decision.because && `: “${decision.because}”`}
                </>
              )}
            </TableCell>
            <TableCell sx={{ overflowWrap: 'anywhere' }}>
              <Address>{fingerprint.replace(/(.{8})(?=.)/g, '$1 ')}</Address>
            </TableCell>
            <TableCell>
              {clock(requested_at)}
              <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{address}</Box>
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
