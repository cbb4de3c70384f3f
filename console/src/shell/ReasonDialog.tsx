import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, useId } from 'react';
import { problemWords } from '../api/problemWords';
import { ReasonField } from '../looks/ReasonField';
import { useTyped } from './useKept';

interface Asked {
  title: string;
  /** The word on the button that does it. */
  action: string;
  act: (because: string) => Promise<unknown>;
  onClose: () => void;
  children: ReactNode;
}

/** Does something that is told with its reason. */
export function ReasonDialog({ title, action, act, onClose, children }: Asked) {
  const queries = useQueryClient();
  const id = useId();
  const [because, setBecause] = useTyped(`${title} because`, '');
  const acting = useMutation({ mutationFn: () => act(because.trim()), onSuccess: onClose, onSettled: () => queries.invalidateQueries() });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby={id}>
      <DialogTitle id={id}>{title}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        {children}
        <ReasonField reason={because} onReason={setBecause} />
        {acting.error && <Alert severity="error">{problemWords(acting.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={acting.isPending || because.trim() === ''} onClick={() => acting.mutate()}>
          {action}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
