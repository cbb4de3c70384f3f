import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { CsvButton } from '../looks/CsvButton';
import { listOf } from '../nodes/filter';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { baselineName } from './draft';
import { groupAddress } from './groupWords';
import { NewGroupDialog } from './NewGroupDialog';

/** The groups, those of higher priority first: which nodes each has, and what it gives them. */
export function GroupsPage() {
  const groups = useQuery({ queryKey: ['groups'], queryFn: ({ signal }) => api.groups(signal) });
  return (
    <Page title="Groups">
      <QueryView query={groups}>
        {(groups) => (
          <Card title={`${groups.length} groups`} aside={<Aside groups={groups} />}>
            <Typography sx={{ color: 'text.secondary', mb: 1 }}>What a group of higher priority gives is put over what one of lower priority gives.</Typography>
            <Table size="small" aria-label="Groups" sx={{ tableLayout: 'fixed' }}>
              <TableHead>
                <TableRow>
                  <TableCell sx={{ width: '14%' }}>Group</TableCell>
                  <TableCell align="right" sx={{ width: '7%' }}>
                    Priority
                  </TableCell>
                  <TableCell align="right" sx={{ width: '7%' }}>
                    Nodes
                  </TableCell>
                  <TableCell>Which nodes</TableCell>
                  <TableCell sx={{ width: '26%' }}>Assigned</TableCell>
                  <TableCell sx={{ width: '10%' }}>Stage</TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {groups.map((listed) => (
                  <GroupRow key={listed.group.name} {...listed} />
                ))}
              </TableBody>
            </Table>
          </Card>
        )}
      </QueryView>
    </Page>
  );
}

function Aside({ groups }: { groups: Schemas['GroupListed'][] }) {
  const rows = () =>
    groups.map(({ group, nodes }) => {
      const assigned = (group.assignments ?? []).map(({ kit, baseline }) => `${kit}/${baseline}`);
      return [group.name, String(group.priority ?? 0), String(nodes), group.filter ?? '', (group.nodes ?? []).join(' '), assigned.join(' '), group.stage ?? ''];
    });
  const session = useQuery(sessionQuery);
  const [isNew, setNew] = useState(false);
  const may = session.data?.permissions ?? [];
  const mayHandOut = may.includes('group.edit');
  return (
    <span>
      <Button variant="text" disabled={!mayHandOut && !may.includes('change.request')} onClick={() => setNew(true)}>
        New group…
      </Button>
      {isNew && <NewGroupDialog names={groups.map(({ group }) => group.name)} mayHandOut={mayHandOut} onClose={() => setNew(false)} />}
      <CsvButton name="groups" heads={['group', 'priority', 'nodes', 'filter', 'named', 'assigned', 'stage']} rows={rows} />
      <CopiedCommand command="constans group list" />
    </span>
  );
}

function GroupRow({ group, nodes }: Schemas['GroupListed']) {
  const named = group.nodes?.length ?? 0;
  return (
    <TableRow>
      <TableCell>
        <Link component={RouterLink} to={groupAddress(group.name)}>
          {group.name}
        </Link>
      </TableCell>
      <TableCell align="right">{group.priority ?? 0}</TableCell>
      <TableCell align="right">
        <Link component={RouterLink} to={listOf(`"${group.name}" in node.groups`)} aria-label={`${nodes.toLocaleString('en')} nodes of ${group.name}`}>
          {nodes.toLocaleString('en')}
        </Link>
      </TableCell>
      <TableCell>
        {group.filter ? <Address>{group.filter}</Address> : group.name === 'everyone' ? 'all nodes' : null}
        {named > 0 && <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>{named} named</Typography>}
      </TableCell>
      <TableCell>
        {(group.assignments ?? []).map((assignment) => (
          <Typography key={baselineName(assignment)} component="div" sx={{ fontSize: 14 }}>
            <Address>{baselineName(assignment)}</Address>
          </Typography>
        ))}
      </TableCell>
      <TableCell>{group.stage ?? '–'}</TableCell>
    </TableRow>
  );
}
