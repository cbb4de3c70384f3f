import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Typography from '@mui/material/Typography';
import { useMutation } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ReasonField } from '../looks/ReasonField';
import { useTyped } from '../shell/useKept';
import { ConfirmDialog } from './ConfirmDialog';

/** Takes a change back: the reason first, then what that would alter, then whether to hand it out. */
export function GoBackDialog({ change, onClose }: { change: Schemas['ChangeSummary']; onClose: () => void }) {
  const [because, setBecause] = useTyped(`take back C${change.no} because`, '');
  const preview = useMutation({
    mutationFn: async () => {
      const changed = await api.goBack(change.no, { because: because.trim() || null, preview: true });
      return api.change(changed.change ?? 0);
    },
  });
  if (preview.data?.impact) {
    const { change: back, impact, typed_from } = preview.data;
    return <ConfirmDialog no={back.no} what={back.what} impact={impact} typedFrom={typed_from} onClose={onClose} />;
  }
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="go-back-title">
      <DialogTitle id="go-back-title">Take back C{change.no}?</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography>Each document that it edited becomes as it was before. What that alters is shown before anything is handed out.</Typography>
        <ReasonField reason={because} onReason={setBecause} />
        {preview.error && <Alert severity="error">{problemWords(preview.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={preview.isPending} onClick={() => preview.mutate()}>
          {preview.isPending ? 'Computing the impact…' : 'Show the impact'}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
