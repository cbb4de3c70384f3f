import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ChangeDialog } from '../changes/ChangeDialog';
import { someNames } from '../groups/groupWords';
import { typedLabels } from '../joining/joiningWords';
import { Address } from '../looks/Address';
import { useKept, useTyped } from '../shell/useKept';
import { count } from '../words/words';

interface OfNodes {
  names: string[];
  mayHandOut: boolean;
  onClose: () => void;
}

/** Sets and removes labels of nodes. */
export function LabelDialog({ names, mayHandOut, onClose }: OfNodes) {
  const [typed, setTyped, drop] = useKept('labels of nodes', { set: '', remove: '' });
  const { labels, wrong } = typedLabels(typed.set);
  const remove = typed.remove.split(/[\s,]+/).filter(Boolean);
  return (
    <ChangeDialog
      title={`Label ${names.length === 1 ? names[0] : count(names.length, 'node')}`}
      next="Groups whose filters read labels take them in or leave them out at once: the impact says what that alters."
      isWhole={wrong === undefined && (Object.keys(labels).length > 0 || remove.length > 0)}
      filledIn={JSON.stringify([labels, remove])}
      mayHandOut={mayHandOut}
      ask={(how) => api.labelNodes({ nodes: names, set: labels, remove, ...asked(how) })}
      onClose={() => {
        drop();
        onClose();
      }}
    >
      <Names names={names} />
      <TextField
        label="Labels to set"
        placeholder="site=auken role=kiosk"
        value={typed.set}
        error={wrong !== undefined}
        helperText={wrong}
        onChange={(event) => setTyped({ ...typed, set: event.target.value })}
        margin="dense"
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
      <TextField
        label="Labels to remove, by their keys"
        placeholder="lab"
        value={typed.remove}
        onChange={(event) => setTyped({ ...typed, remove: event.target.value })}
        margin="dense"
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
    </ChangeDialog>
  );
}

/** Gives a node another name. */
export function RenameDialog({ name, mayHandOut, onClose }: { name: string; mayHandOut: boolean; onClose: () => void }) {
  const [to, setTo] = useTyped(`next name of ${name}`, name);
  return (
    <ChangeDialog
      title={`Rename ${name}`}
      next="Groups that name it follow. Its identity, its certificate and its history stay."
      isWhole={to.trim() !== '' && to !== name}
      filledIn={to}
      mayHandOut={mayHandOut}
      ask={(how) => api.renameNode(name, { to, ...asked(how) })}
      onClose={onClose}
    >
      <TextField
        label="Its next name"
        value={to}
        onChange={(event) => setTo(event.target.value)}
        margin="dense"
        slotProps={{ htmlInput: { maxLength: 253 } }}
      />
    </ChangeDialog>
  );
}

/** Retires nodes. */
export function RetireDialog({ names, mayHandOut, onClose }: OfNodes) {
  return (
    <ChangeDialog
      title={`Retire ${names.length === 1 ? names[0] : count(names.length, 'node')}`}
      next={
        <>
          What happens next: their next requests are refused, their agents stop, and they are no longer listed or counted; what their machines have stays there.
          Each can be brought back under <i>Joining, Retired</i>.
        </>
      }
      isWhole
      filledIn=""
      mayHandOut={mayHandOut}
      ask={(how) => api.retireNodes({ nodes: names, ...asked(how) })}
      onClose={onClose}
    >
      <Names names={names} />
    </ChangeDialog>
  );
}

/** Revokes a node at once: it waits for no change. */
export function RevokeDialog({ name, onClose }: { name: string; onClose: () => void }) {
  const queries = useQueryClient();
  const revoke = useMutation({ mutationFn: () => api.revokeNode(name), onSuccess: onClose, onSettled: () => queries.invalidateQueries() });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="revoke-title">
      <DialogTitle id="revoke-title">Revoke {name}?</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        <Typography>
          It is refused from its next request on, at once. It stays listed as revoked. To admit it again: make an invitation, run{' '}
          <Address>constans-agent join</Address> on it, and approve its request.
        </Typography>
        {revoke.error && <Alert severity="error">{problemWords(revoke.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" color="error" disabled={revoke.isPending} onClick={() => revoke.mutate()}>
          Revoke
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Names({ names }: { names: string[] }) {
  return names.length > 1 ? <Typography sx={{ overflowWrap: 'anywhere' }}>{someNames(names, names.length, 12)}</Typography> : null;
}

/** How a change is made, with what the interface asks to be said. */
export function asked(how: Schemas['HowToChange']) {
  return { ...how, preview: how.preview ?? false, request: how.request ?? false, although_unusable: false };
}
