import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Typography from '@mui/material/Typography';
import { useMutation } from '@tanstack/react-query';
import { type ReactNode, useId } from 'react';
import { problemWords } from '../api/problemWords';
import { CopiedCommand } from '../looks/CopiedCommand';

interface Asked<T> {
  title: string;
  /** What will happen. */
  what: string;
  /** What is asked for, to be filled in. */
  form?: ReactNode;
  /** Whether it is filled in. */
  isReady?: boolean;
  /** The word on the button that asks. */
  action: string;
  ask: () => Promise<T>;
  /** How far what was asked for is. */
  progress: (asked: T) => ReactNode;
  /** The command that shows the same. */
  command: (asked: T) => string;
  onClose: () => void;
}

/** Asks nodes for something, and shows how far it is. It can be left: the server goes on. */
export function AskDialog<T>({ title, what, form, isReady = true, action, ask, progress, command, onClose }: Asked<T>) {
  const id = useId();
  const asking = useMutation({ mutationFn: ask });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby={id}>
      <DialogTitle id={id}>{title}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        {asking.data ? progress(asking.data) : <Typography>{what}</Typography>}
        {!asking.data && form}
        {asking.error && <Alert severity="error">{problemWords(asking.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        {asking.data && <CopiedCommand command={command(asking.data)} />}
        <Box sx={{ flex: 1 }} />
        <Button variant="text" onClick={onClose}>
          {asking.data ? 'Close' : 'Cancel'}
        </Button>
        {!asking.data && (
          <Button variant="contained" disabled={asking.isPending || !isReady} onClick={() => asking.mutate()}>
            {action}
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}
