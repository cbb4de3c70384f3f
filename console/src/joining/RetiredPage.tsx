import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Link from '@mui/material/Link';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { changeAddress } from '../changes/changeWords';
import { BulkBar, type Outcome, useForEach } from '../lists/Bulk';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { sessionQuery } from '../shell/session';
import { JoiningTabs } from './JoiningTabs';
import { labelText } from './joiningWords';

type Retired = Schemas['RetiredNode'];

const COLUMNS: Column<Retired>[] = [
  { field: 'name', head: 'Node', text: ({ name }) => name, cell: ({ name }) => <b>{name}</b> },
  { field: 'labels', head: 'Labels', text: ({ labels }) => labelText(labels) },
  { field: 'retired_at', head: 'Retired', text: ({ retired_at }) => retired_at, cell: ({ retired_at }) => <Moment at={retired_at} /> },
  { field: 'retired_by', head: 'By', text: ({ retired_by }) => retired_by ?? '' },
  { field: 'because', head: 'Why', text: ({ because }) => (because ? `“${because}”` : '') },
  {
    field: 'change',
    head: 'Change',
    text: ({ change }) => (change ? `C${change}` : ''),
    cell: ({ change }) =>
      change && (
        <Link component={RouterLink} to={changeAddress(change)} underline="always">
          C{change}
        </Link>
      ),
  },
  { field: 'joined_at', head: 'Joined', text: ({ joined_at }) => joined_at, cell: ({ joined_at }) => <Moment at={joined_at} /> },
  { field: 'fingerprint', head: 'Fingerprint of its key', text: ({ fingerprint }) => fingerprint ?? '', isHiddenFirst: true },
];

/** Nodes that were retired: by whom, when and why. One is brought back from here. */
export function RetiredPage() {
  const list = useList('retired', lists.retiredNodes, { key: ['retired'] });
  const session = useQuery(sessionQuery);
  const mayBringBack = session.data?.permissions.includes('join.approve') ?? false;
  const [back, setBack] = useState<Retired>();
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [outcome, setOutcome] = useState<Outcome>();
  const bringBack = useForEach(
    (id) => api.bringBack(id, {}),
    (outcome) => {
      setOutcome(outcome);
      setSelected(new Set());
    },
  );
  return (
    <Page title="Retired nodes" heading={<JoiningTabs />}>
      <Card title="Retired nodes" aside={<CopiedCommand command={`constans node retired${asArgument(list.filter)}`} />}>
        {!mayBringBack && <Typography sx={{ color: 'text.secondary', mb: 1 }}>Bringing one back is for approvers and administrators.</Typography>}
        <BulkBar nouns={['node', 'nodes']} selected={selected} onSelected={setSelected} outcome={outcome} done="brought back, with the names that they had">
          <Button variant="outlined" size="small" disabled={bringBack.isPending} onClick={() => bringBack.mutate([...selected])}>
            Bring them back
          </Button>
        </BulkBar>
        <ListView
          label="Retired nodes"
          nouns={['node', 'nodes']}
          list={list}
          columns={COLUMNS}
          keyOf={({ id }) => id}
          example={'retired.name.startsWith("kiosk-lab-") && retired.retired_at > "2026-10-01"'}
          empty={<Typography>No node is retired.</Typography>}
          selection={{ selected, onSelected: setSelected, label: ({ name }) => name, isDisabled: !mayBringBack }}
          actions={(node) => (
            <Button variant="text" size="small" disabled={!mayBringBack} onClick={() => setBack(node)} aria-label={`Bring back… ${node.name}`}>
              Bring back…
            </Button>
          )}
        />
      </Card>
      {back && <BringBackDialog node={back} onClose={() => setBack(undefined)} />}
    </Page>
  );
}

function BringBackDialog({ node, onClose }: { node: Retired; onClose: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState(node.name);
  const bringBack = useMutation({
    mutationFn: () => api.bringBack(node.id, name === node.name ? {} : { name }),
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="back-title">
      <DialogTitle id="back-title">{bringBack.data ? `${bringBack.data} is of the fleet again` : `Bring ${node.name} back?`}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        {bringBack.data ? (
          <Typography>
            What happens next: on its machine, <Address>constans-agent check-in</Address> has it go on. If the machine joined elsewhere or lost its key, let it
            join again and approve it as {bringBack.data} on a new machine.
          </Typography>
        ) : (
          <>
            <Typography>It has its identity, its labels and its history as before. Groups that named it do not name it again.</Typography>
            {node.is_name_in_use && (
              <Alert severity="warning" variant="outlined">
                Another node is called {node.name} now: give this one another name.
              </Alert>
            )}
            <TextField
              label="Name"
              value={name}
              onChange={(event) => setName(event.target.value)}
              margin="dense"
              slotProps={{ htmlInput: { maxLength: 253 } }}
            />
            {bringBack.error && <Alert severity="error">{problemWords(bringBack.error)}</Alert>}
          </>
        )}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          {bringBack.data ? 'Close' : 'Cancel'}
        </Button>
        {!bringBack.data && (
          <Button
            variant="contained"
            disabled={bringBack.isPending || name.trim() === '' || (node.is_name_in_use && name === node.name)}
            onClick={() => bringBack.mutate()}
          >
            Bring back
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}
