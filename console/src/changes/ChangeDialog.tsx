import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ReasonField } from '../looks/ReasonField';
import { useTyped } from '../shell/useKept';
import { ConfirmDialog } from './ConfirmDialog';
import { changeAddress } from './changeWords';
import { ImpactView } from './ImpactView';

interface Asked {
  title: string;
  /** What happens next, in a sentence. */
  next: ReactNode;
  /** Whether enough is filled in. */
  isWhole: boolean;
  /** What is filled in: an impact is that of what it was computed of. */
  filledIn: string;
  mayHandOut: boolean;
  /** Whether it can reach its nodes in waves. */
  canGoInWaves?: boolean;
  ask: (how: Schemas['HowToChange']) => Promise<Schemas['Changed']>;
  onClose: () => void;
  children?: ReactNode;
}

/** Asks for a change of desired state: its impact is shown first, then it is handed out, or requested of those who may. */
export function ChangeDialog({ title, next, isWhole, filledIn, mayHandOut, canGoInWaves, ask, onClose, children }: Asked) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [because, setBecause] = useTyped(`${title} because`, '');
  const [isConfirming, setConfirming] = useState(false);
  const how = { because: because.trim() || undefined };
  const sent = JSON.stringify([filledIn, because.trim()]);
  const preview = useMutation({
    mutationFn: async () => {
      const changed = await ask({ ...how, preview: true });
      return { shown: await api.change(changed.change ?? 0), sent };
    },
  });
  const request = useMutation({
    mutationFn: () => ask({ ...how, request: true }),
    onSuccess: ({ change }) => {
      onClose();
      if (change) void navigate(changeAddress(change));
    },
    onSettled: () => queries.invalidateQueries(),
  });
  const computed = preview.data?.sent === sent ? preview.data.shown : undefined;
  const isBusy = preview.isPending || request.isPending;
  const problem = preview.error ?? request.error;
  if (isConfirming && computed?.impact) {
    return (
      <ConfirmDialog
        no={computed.change.no}
        what={computed.change.what}
        impact={computed.impact}
        typedFrom={computed.typed_from}
        canGoInWaves={canGoInWaves}
        onClose={onClose}
      />
    );
  }
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="change-title">
      <DialogTitle id="change-title">{title}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        {children}
        <Typography sx={{ color: 'text.secondary' }}>{next}</Typography>
        <Box sx={{ display: 'flex' }}>
          <ReasonField reason={because} onReason={setBecause} />
        </Box>
        {problem && <Alert severity="error">{problemWords(problem)}</Alert>}
        {computed?.impact && (
          <Box aria-live="polite">
            <ImpactView impact={computed.impact} isNarrow />
          </Box>
        )}
        {!mayHandOut && <Typography sx={{ color: 'text.secondary' }}>You may request this; an approver hands it out.</Typography>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant={mayHandOut ? 'outlined' : 'contained'} disabled={isBusy || !isWhole} onClick={() => request.mutate()}>
          Request approval
        </Button>
        {mayHandOut &&
          (computed?.impact ? (
            <Button variant="contained" onClick={() => setConfirming(true)}>
              Hand out…
            </Button>
          ) : (
            <Button variant="contained" disabled={isBusy || !isWhole} onClick={() => preview.mutate()}>
              {preview.isPending ? 'Computing the impact…' : 'Show the impact'}
            </Button>
          ))}
      </DialogActions>
    </Dialog>
  );
}
