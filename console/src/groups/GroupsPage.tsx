import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { asArgument, listOf } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { sessionQuery } from '../shell/session';
import { baselineName } from './draft';
import { groupAddress } from './groupWords';
import { NewGroupDialog } from './NewGroupDialog';

type Listed = Schemas['GroupListed'];

const assigned = ({ group }: Listed) => (group.assignments ?? []).map(baselineName);

const COLUMNS: Column<Listed>[] = [
  {
    field: 'name',
    head: 'Group',
    text: ({ group }) => group.name,
    cell: ({ group }) => (
      <Link component={RouterLink} to={groupAddress(group.name)}>
        {group.name}
      </Link>
    ),
  },
  { field: 'priority', head: 'Priority', align: 'right', text: ({ group }) => String(group.priority ?? 0) },
  { field: 'nodes', head: 'Nodes', align: 'right', text: ({ nodes }) => String(nodes), cell: (listed) => <Nodes {...listed} /> },
  { field: 'filter', head: 'Which nodes', text: ({ group }) => group.filter ?? '', cell: (listed) => <Which {...listed} /> },
  { field: 'named', head: 'Named', text: ({ group }) => (group.nodes ?? []).join(' '), isHiddenFirst: true },
  {
    field: 'assigned',
    head: 'Assigned',
    text: (listed) => assigned(listed).join(' '),
    cell: (listed) =>
      assigned(listed).map((name) => (
        <Typography key={name} component="div" sx={{ fontSize: 14 }}>
          <Address>{name}</Address>
        </Typography>
      )),
  },
  { field: 'stage', head: 'Stage', text: ({ group }) => group.stage ?? '', cell: ({ group }) => group.stage ?? '–' },
];

/** The groups, those of higher priority first: which nodes each has, and what it gives them. */
export function GroupsPage() {
  const list = useList('group', lists.groups, { key: ['groups', 'list'] });
  return (
    <Page title="Groups">
      <Card title="Groups of nodes" aside={<Aside filter={list.filter} />}>
        <Typography sx={{ color: 'text.secondary', mb: 1 }}>What a group of higher priority gives is put over what one of lower priority gives.</Typography>
        <ListView
          label="Groups"
          nouns={['group', 'groups']}
          list={list}
          columns={COLUMNS}
          keyOf={({ group }) => group.name}
          example={'group.stage == "harbour" || group.nodes > 100'}
          empty={<Typography>There is no group.</Typography>}
        />
      </Card>
    </Page>
  );
}

function Aside({ filter }: { filter: string }) {
  const session = useQuery(sessionQuery);
  const [isNew, setNew] = useState(false);
  const groups = useQuery({ queryKey: ['groups'], queryFn: ({ signal }) => api.groups(signal), enabled: isNew });
  const may = session.data?.permissions ?? [];
  const mayHandOut = may.includes('group.edit');
  return (
    <span>
      <Button variant="text" disabled={!mayHandOut && !may.includes('change.request')} onClick={() => setNew(true)}>
        New group…
      </Button>
      {isNew && groups.data && <NewGroupDialog names={groups.data.map(({ group }) => group.name)} mayHandOut={mayHandOut} onClose={() => setNew(false)} />}
      <CopiedCommand command={`constans group list${asArgument(filter)}`} />
    </span>
  );
}

function Nodes({ group, nodes }: Listed) {
  return (
    <Link component={RouterLink} to={listOf(`"${group.name}" in node.groups`)} aria-label={`${nodes.toLocaleString('en')} nodes of ${group.name}`}>
      {nodes.toLocaleString('en')}
    </Link>
  );
}

function Which({ group }: Listed) {
  const named = group.nodes?.length ?? 0;
  return (
    <>
      {group.filter ? <Address>{group.filter}</Address> : group.name === 'everyone' ? 'all nodes' : null}
      {named > 0 && <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>{named} named</Typography>}
    </>
  );
}
