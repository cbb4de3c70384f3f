import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { StatusGlyph } from '../looks/StatusGlyph';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { count } from '../words/words';
import { AuditCard } from './AuditCard';
import { PeopleCards } from './PeopleCards';

/** How the server itself is: its parts, certificates, the agents' versions, people, and who did what. */
export function ServerPage() {
  const status = useQuery({ queryKey: ['server-status'], queryFn: ({ signal }) => api.serverStatus(signal), refetchInterval: 30_000 });
  const session = useQuery(sessionQuery);
  const may = (permission: string) => session.data?.permissions.includes(permission) ?? false;
  return (
    <Page title="Server">
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', lg: 'minmax(0, 1fr) minmax(0, 1fr)' }, alignItems: 'start' }}>
        <QueryView query={status}>{(status) => <StatusCards status={status} />}</QueryView>
        <PeopleCards isAllowed={may('people.manage')} />
        <AuditCard isAllowed={may('audit.read')} />
      </Box>
    </Page>
  );
}

function StatusCards({ status }: { status: Schemas['ServerStatus'] }) {
  const wrong = status.parts.filter((part) => part.remedy).length + status.certificates.filter((one) => one.problem).length;
  return (
    <>
      <Box sx={{ gridColumn: '1 / -1' }}>
        <Card title="Health" aside={<CopiedCommand command="constans server status" />}>
          <Typography sx={{ mb: 1.5 }}>
            constans-server {status.version}, running since{' '}
            <time dateTime={status.started_at} title={exact(status.started_at)}>
              {clock(status.started_at)}
            </time>
            , {count(status.nodes, 'node')} of {status.expected_nodes} that it is sized for.{' '}
            <strong role="status">{wrong === 0 ? 'No problems.' : `${count(wrong, 'problem')}.`}</strong>
          </Typography>
          {status.recovering_since && (
            <Alert severity="warning" variant="outlined" sx={{ mb: 1.5 }}>
              It has been recovering since {exact(status.recovering_since)}. <Address>constans recovery show</Address>
            </Alert>
          )}
          <Parts parts={status.parts} />
        </Card>
      </Box>
      <Card title="Certificates">
        <Simple label="Certificates" heads={['Shown to', 'Until']}>
          {status.certificates.map((one) => (
            <TableRow key={one.shown_to}>
              <TableCell>{one.shown_to}</TableCell>
              <TableCell>
                <Mark isWell={!one.problem}>{exact(one.ends_at)}</Mark>
                {one.problem && <Typography sx={{ color: 'error.main', fontSize: 14 }}>{one.problem}</Typography>}
              </TableCell>
            </TableRow>
          ))}
        </Simple>
      </Card>
      <Card title="Agents" aside={<CopiedCommand command="constans agent-package list" />}>
        <Simple label="Agents" heads={['Version', 'Nodes', 'Served as a package']}>
          {withServed(status).map(({ version, nodes, packages }) => (
            <TableRow key={version ?? ''}>
              <TableCell>{version ?? 'never checked in'}</TableCell>
              <TableCell>{nodes}</TableCell>
              <TableCell>{packages.join(', ') || '–'}</TableCell>
            </TableRow>
          ))}
        </Simple>
        {status.packages.length === 0 && (
          <Typography sx={{ mt: 1, color: 'text.secondary', fontSize: 14 }}>
            With packages of the agent, one line installs it on a machine: <Address>make packages</Address>, then{' '}
            <Address>constans agent-package add FILE</Address>.
          </Typography>
        )}
      </Card>
    </>
  );
}

/** The versions that nodes have, then those that are only served. */
function withServed({ agents, packages }: Schemas['ServerStatus']) {
  const served = (version?: string | null) => packages.filter((one) => one.version === version).map((one) => `.${one.format} ${one.architecture}`);
  const known = agents.map(({ version, nodes }) => ({ version, nodes, packages: served(version) }));
  const others = [...new Set(packages.map((one) => one.version))].filter((version) => !agents.some((one) => one.version === version));
  return [...known, ...others.map((version) => ({ version, nodes: 0, packages: served(version) }))];
}

function Parts({ parts }: { parts: Schemas['ServerPart'][] }) {
  return (
    <Simple label="Parts" heads={['Part', 'How it is']}>
      {parts.map((part) => (
        <TableRow key={`${part.name} ${part.found}`} sx={{ '& td': { verticalAlign: 'top' } }}>
          <TableCell sx={{ whiteSpace: 'nowrap' }}>{part.name}</TableCell>
          <TableCell>
            <Mark isWell={!part.remedy}>{part.found}</Mark>
            {part.remedy && <Typography sx={{ fontSize: 14, ml: 3.25 }}>What to do: {part.remedy}</Typography>}
          </TableCell>
        </TableRow>
      ))}
    </Simple>
  );
}

/** Never by colour alone: a problem says so. */
function Mark({ isWell, children }: { isWell: boolean; children: ReactNode }) {
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'flex-start', overflowWrap: 'anywhere', minWidth: 0 }}>
      <StatusGlyph status={isWell ? 'in_line' : 'failed'} size={18} />
      <span>
        {!isWell && <strong>problem: </strong>}
        {children}
      </span>
    </Box>
  );
}

/** A small table with a head. */
export function Simple({ label, heads, children }: { label: string; heads: string[]; children: ReactNode }) {
  return (
    <Table size="small" aria-label={label}>
      <TableHead>
        <TableRow>
          {heads.map((head) => (
            <TableCell key={head}>{head}</TableCell>
          ))}
        </TableRow>
      </TableHead>
      <TableBody>{children}</TableBody>
    </Table>
  );
}

/** What one may not see, with who may. */
export function OnlyFor({ who }: { who: string }) {
  return <Typography sx={{ color: 'text.secondary' }}>Only {who} sees this.</Typography>;
}
