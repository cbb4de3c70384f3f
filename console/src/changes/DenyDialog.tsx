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
import { ReasonField } from '../looks/ReasonField';
import { problemWords } from './ConfirmDialog';

/** Denies a requested change, with the reason that its author reads. */
export function DenyDialog({ change, onClose }: { change: Schemas['ChangeSummary']; onClose: () => void }) {
  const queries = useQueryClient();
  const [because, setBecause] = useState('');
  const deny = useMutation({
    mutationFn: () => api.denyChange(change.no, { because: because.trim() }),
    onSuccess: onClose,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="deny-title">
      <DialogTitle id="deny-title">
        Deny C{change.no}: {change.what}?
      </DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography>Nothing of it is handed out. {change.who} reads the reason with the change.</Typography>
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
