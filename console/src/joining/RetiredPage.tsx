import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../changes/ConfirmDialog';
import { changeAddress } from '../changes/changeWords';
import { useSettled } from '../groups/useSettled';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Unseen } from '../looks/Unseen';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { JoiningTabs } from './JoiningTabs';
import { labelText } from './joiningWords';

type Retired = Schemas['RetiredNode'];

/** Nodes that were retired: by whom, when and why. One is brought back from here. */
export function RetiredPage() {
  const [parameters, set] = useParameters();
  const name = useSettled(parameters.get('name') ?? '');
  const nodes = useQuery({ queryKey: ['retired', name], queryFn: ({ signal }) => api.retiredNodes(name, signal) });
  const session = useQuery(sessionQuery);
  const mayBringBack = session.data?.permissions.includes('join.approve') ?? false;
  const [back, setBack] = useState<Retired>();
  return (
    <Page title="Retired nodes" heading={<JoiningTabs />}>
      <Card title="Retired nodes" aside={<CopiedCommand command={`constans node retired${name && ` '${name}'`}`} />}>
        <TextField
          size="small"
          label="Name or pattern"
          placeholder="kiosk-lab-*"
          value={parameters.get('name') ?? ''}
          onChange={(event) => set({ name: event.target.value })}
          slotProps={{ htmlInput: { spellCheck: false } }}
          sx={{ mb: 1.5 }}
        />
        {!mayBringBack && <Typography sx={{ color: 'text.secondary', mb: 1 }}>Bringing one back is for approvers and administrators.</Typography>}
        <QueryView query={nodes}>
          {(nodes) =>
            nodes.length === 0 ? (
              <Typography>{name ? `No retired node fits ${name}.` : 'No node is retired.'}</Typography>
            ) : (
              <RetiredTable nodes={nodes} mayBringBack={mayBringBack} onBack={setBack} />
            )
          }
        </QueryView>
      </Card>
      {back && <BringBackDialog node={back} onClose={() => setBack(undefined)} />}
    </Page>
  );
}

function RetiredTable({ nodes, mayBringBack, onBack }: { nodes: Retired[]; mayBringBack: boolean; onBack: (node: Retired) => void }) {
  return (
    <Table size="small" aria-label="Retired nodes" sx={{ '& td': { verticalAlign: 'top' } }}>
      <TableHead>
        <TableRow>
          <TableCell>Node</TableCell>
          <TableCell>Retired</TableCell>
          <TableCell>Joined</TableCell>
          <TableCell>
            <Unseen>Actions</Unseen>
          </TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {nodes.map((node) => (
          <TableRow key={node.id}>
            <TableCell>
              <b>{node.name}</b>
              <Box sx={{ color: 'text.secondary', fontSize: 13, overflowWrap: 'anywhere' }}>{labelText(node.labels)}</Box>
            </TableCell>
            <TableCell>
              <time dateTime={node.retired_at} title={exact(node.retired_at)}>
                {clock(node.retired_at)}
              </time>
              {node.retired_by && ` by ${node.retired_by}`}
              {node.change && (
                <>
                  {' ('}
                  <Link component={RouterLink} to={changeAddress(node.change)} underline="always">
                    C{node.change}
                  </Link>
                  )
                </>
              )}
              {node.because && `: “${node.because}”`}
            </TableCell>
            <TableCell>
              <time dateTime={node.joined_at} title={exact(node.joined_at)}>
                {clock(node.joined_at)}
              </time>
            </TableCell>
            <TableCell align="right">
              <Button variant="text" size="small" disabled={!mayBringBack} onClick={() => onBack(node)} aria-label={`Bring back ${node.name}`}>
                Bring back…
              </Button>
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
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
