import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../changes/ConfirmDialog';
import { someNames } from '../groups/groupWords';
import { ReasonField } from '../looks/ReasonField';
import { count } from '../words/words';

/** Denies requests, with a reason that the machines receive. */
export function DenyDialog({ requests, onClose }: { requests: Schemas['JoiningRequest'][]; onClose: () => void }) {
  const queries = useQueryClient();
  const [because, setBecause] = useState('');
  const deny = useMutation({
    mutationFn: () => api.denyRequests({ requests: requests.map(({ id }) => id), because: because.trim() }),
    onSuccess: onClose,
    onSettled: () => queries.invalidateQueries(),
  });
  const names = requests.map(({ name }) => name);
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="deny-title">
      <DialogTitle id="deny-title">Deny {count(requests.length, 'machine')}?</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        <Typography sx={{ overflowWrap: 'anywhere' }}>{someNames(names, names.length, 20)}</Typography>
        <Typography>The machines receive the reason. No admission rule lets in later what asks with the same key or under the same name.</Typography>
        <ReasonField reason={because} onReason={setBecause} />
        {deny.error && <Alert severity="error">{problemWords(deny.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={deny.isPending || because.trim() === ''} onClick={() => deny.mutate()}>
          Deny
        </Button>
      </DialogActions>
    </Dialog>
  );
}
