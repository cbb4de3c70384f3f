import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, lists, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
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
import { useKept } from '../shell/useKept';
import { exact } from '../words/time';
import { JoiningTabs } from './JoiningTabs';
import { labelText, typedLabels } from './joiningWords';

const COLUMNS: Column<Schemas['OpenInvitation']>[] = [
  { field: 'id', head: 'Invitation', text: ({ id }) => id, cell: ({ id }) => <Address>{id}</Address> },
  {
    field: 'uses_left',
    head: 'Uses left',
    text: ({ uses, uses_left }) => `${uses_left.toLocaleString('en')} of ${uses.toLocaleString('en')}`,
    isOneLine: true,
  },
  { field: 'expires_at', head: 'Holds until', text: ({ expires_at }) => expires_at, cell: ({ expires_at }) => <Moment at={expires_at} /> },
  { field: 'labels', head: 'Labels', text: ({ labels }) => labelText(labels) },
  { field: 'made_by', head: 'Made by', text: ({ made_by }) => made_by },
  { field: 'made_at', head: 'When', text: ({ made_at }) => made_at, cell: ({ made_at }) => <Moment at={made_at} /> },
];

/** Invitations that may still be used. */
export function InvitationsPage() {
  const session = useQuery(sessionQuery);
  const mayInvite = session.data?.permissions.includes('join.invite') ?? false;
  const list = useList('invitation', lists.invitations, { key: ['invitations'], enabled: mayInvite });
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [outcome, setOutcome] = useState<Outcome>();
  const withdraw = useForEach(api.withdrawInvitation, (outcome) => {
    setOutcome(outcome);
    setSelected(new Set());
  });
  const [isMaking, setMaking] = useState(false);
  return (
    <Page title="Invitations" heading={<JoiningTabs />}>
      <Card
        title="Invitations"
        aside={
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
            <Button variant="contained" disabled={!mayInvite} onClick={() => setMaking(true)}>
              Invite…
            </Button>
            <CopiedCommand command={`constans invitation list${asArgument(list.filter)}`} />
          </Box>
        }
      >
        <BulkBar nouns={['invitation', 'invitations']} selected={selected} onSelected={setSelected} outcome={outcome} done="withdrawn">
          <Button variant="outlined" size="small" disabled={withdraw.isPending} onClick={() => withdraw.mutate([...selected])}>
            Withdraw them
          </Button>
        </BulkBar>
        {!mayInvite ? (
          <Typography>Invitations are for approvers and administrators.</Typography>
        ) : (
          <ListView
            label="Invitations"
            nouns={['invitation', 'invitations']}
            list={list}
            columns={COLUMNS}
            keyOf={({ id }) => id}
            example={'invitation.made_by == "ilse.maren"'}
            empty={<Typography>No invitation is open. With one, a machine may ask to join.</Typography>}
            selection={{ selected, onSelected: setSelected, label: ({ id }) => id }}
            actions={({ id }) => (
              <Button variant="text" size="small" disabled={withdraw.isPending} onClick={() => withdraw.mutate([id])} aria-label={`Withdraw ${id}`}>
                Withdraw
              </Button>
            )}
          />
        )}
        <Typography sx={{ color: 'text.secondary', mt: 1 }}>One that is withdrawn can no longer be used; requests that were made with it stay.</Typography>
      </Card>
      {isMaking && <InviteDialog onClose={() => setMaking(false)} />}
    </Page>
  );
}

const HOURS = { '1': 'an hour', '24': 'a day', '168': '7 days', '720': '30 days' };

function InviteDialog({ onClose }: { onClose: () => void }) {
  const queries = useQueryClient();
  const [typed, setTyped, drop] = useKept('invitation', { uses: '1', hours: '24', labels: '' });
  const { labels, wrong } = typedLabels(typed.labels);
  const uses = Number(typed.uses);
  const invite = useMutation({
    mutationFn: () => api.invite({ uses, for_secs: Number(typed.hours) * 3_600, labels }),
    onSuccess: drop,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="invite-title">
      <DialogTitle id="invite-title">{invite.data ? 'The invitation' : 'Invite machines'}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        {invite.data ? (
          <Made made={invite.data} />
        ) : (
          <>
            <TextField
              label="How many machines may use it, at most 10,000"
              value={typed.uses}
              onChange={(event) => setTyped({ ...typed, uses: event.target.value })}
              margin="dense"
              slotProps={{ htmlInput: { inputMode: 'numeric' } }}
            />
            <TextField select label="It holds for" value={typed.hours} onChange={(event) => setTyped({ ...typed, hours: event.target.value })} margin="dense">
              {Object.entries(HOURS).map(([hours, words]) => (
                <MenuItem key={hours} value={hours}>
                  {words}
                </MenuItem>
              ))}
            </TextField>
            <TextField
              label="Labels of the machines that use it"
              placeholder="site=auken role=kiosk"
              value={typed.labels}
              error={wrong !== undefined}
              helperText={wrong}
              onChange={(event) => setTyped({ ...typed, labels: event.target.value })}
              margin="dense"
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
            {invite.error && <Alert severity="error">{problemWords(invite.error)}</Alert>}
          </>
        )}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          {invite.data ? 'Close' : 'Cancel'}
        </Button>
        {!invite.data && (
          <Button variant="contained" disabled={invite.isPending || wrong !== undefined || !Number.isInteger(uses) || uses < 1} onClick={() => invite.mutate()}>
            Invite
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}

/** It is shown once: the server keeps only its digest. */
function Made({ made }: { made: Schemas['MadeInvitation'] }) {
  return (
    <>
      <Alert severity="info" variant="outlined">
        The invitation is shown only now. Whoever has it can ask to join until {exact(made.expires_at)}.
      </Alert>
      <Copied label="invitation" text={made.text} />
      {made.install ? (
        <>
          <Typography>
            Paste this line into a shell of each machine. It fetches the agent and compares it with the SHA-256 in the line, installs it, and asks for the
            invitation, which then is in no history.
          </Typography>
          <Copied label="line" text={made.install.line} />
          <Typography variant="body2" color="text.secondary">
            It installs {made.install.installs.map((one) => `constans-agent ${one.version} as .${one.format} for ${one.architecture}`).join(', ')}. It is for{' '}
            {made.install.systems.join('; ')}.
          </Typography>
        </>
      ) : (
        <Typography>
          Run on the machine <Address>constans-agent join</Address>, which asks for it. Where an administrator has added packages of the agent,{' '}
          <Address>constans agent-package add</Address>, one line to paste installs it too.
        </Typography>
      )}
      <Typography>
        The machine then waits under <i>Waiting</i>, unless an admission rule lets it in.
      </Typography>
    </>
  );
}

/** A text to be taken along, with what copies it. */
function Copied({ label, text }: { label: string; text: string }) {
  const [isCopied, setCopied] = useState(false);
  return (
    <>
      <TextField multiline value={text} slotProps={{ htmlInput: { readOnly: true, 'aria-label': label, style: { fontSize: 13 } } }} />
      <Button variant="outlined" onClick={() => void navigator.clipboard?.writeText(text).then(() => setCopied(true))}>
        {isCopied ? 'copied' : `Copy the ${label}`}
      </Button>
    </>
  );
}
