import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TextField from '@mui/material/TextField';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { RolloutDialog } from '../rollouts/RolloutDialog';
import { count } from '../words/words';
import { changeAddress, confirmation } from './changeWords';
import { ImpactView } from './ImpactView';

interface Asked {
  no: number;
  what: string;
  impact: Schemas['Impact'];
  typedFrom: number;
  /** Whether it can reach its nodes in waves; turning a rollout back cannot. */
  canGoInWaves?: boolean;
  /** Whether it is a request of another person that is approved. */
  approves?: boolean;
  onClose: () => void;
  /** When it is on its way. */
  onHandedOut?: () => void;
}

/** Asks whether to hand a change out. Where it takes clauses from many nodes, their number is typed. */
export function ConfirmDialog({ no, what, impact, typedFrom, approves = false, canGoInWaves = true, onClose, onHandedOut }: Asked) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [typed, setTyped] = useState('');
  const [isInWaves, setInWaves] = useState(false);
  const handOut = useMutation({
    mutationFn: () => (approves ? api.approveChange : api.confirmChange)(no, confirmation(impact)),
    onSuccess: () => {
      onHandedOut?.();
      onClose();
      void navigate(changeAddress(no));
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const mustType = impact.takes_from >= typedFrom;
  if (isInWaves) return <RolloutDialog no={no} what={what} impact={impact} typedFrom={typedFrom} onClose={onClose} onHandedOut={onHandedOut} />;
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="confirm-title">
      <DialogTitle id="confirm-title">
        {approves ? 'Approve and hand out' : 'Hand out'} C{no}: {what}?
      </DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <ImpactView impact={impact} />
        {mustType && (
          <TextField
            label={`Type the number of nodes that clauses are taken from (${count(impact.takes_from, 'node')})`}
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
            margin="dense"
          />
        )}
        {handOut.error && <Alert severity="error">{problemWords(handOut.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        {canGoInWaves && (
          <Button variant="outlined" disabled={handOut.isPending} onClick={() => setInWaves(true)}>
            In waves…
          </Button>
        )}
        <Button variant="contained" disabled={handOut.isPending || (mustType && typed.trim() !== String(impact.takes_from))} onClick={() => handOut.mutate()}>
          {handOut.isPending ? 'Handing out…' : approves ? 'Approve' : 'Hand out'}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
