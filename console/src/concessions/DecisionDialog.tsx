import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { useTyped } from '../shell/useKept';
import { coverageWords, placeWords } from './concessionWords';

/** What is decided of a concession. */
export type Decision = 'approve' | 'refuse' | 'end' | 'withdraw';

const CONSEQUENCES: Record<Decision, string> = {
  approve: 'What it covers is counted as conceded until it ends; the rate as found stays.',
  refuse: 'Nothing of it comes into force. Who asked for it reads the reason.',
  end: 'What it covers counts as noncompliant again, its freeze ends, and nodes that enforce correct it.',
  withdraw: 'Nothing of it comes into force.',
};

/** Approves, refuses or ends a concession. An approval sets a freeze unless that is left out; all others need a reason. */
export function DecisionDialog({ concession, decision, onClose }: { concession: Schemas['Concession']; decision: Decision; onClose: () => void }) {
  const queries = useQueryClient();
  const [because, setBecause] = useTyped(`${decision} D${concession.no} because`, '');
  const [withFreeze, setWithFreeze] = useTyped(`${decision} D${concession.no} with a freeze`, true);
  const { no } = concession;
  const reason = because.trim();
  const decide = useMutation({
    mutationFn: () => {
      if (decision === 'approve') return api.approveConcession(no, { without_freeze: !withFreeze, because: reason || null });
      return decision === 'refuse' ? api.refuseConcession(no, { because: reason }) : api.endConcession(no, { because: reason });
    },
    onSuccess: onClose,
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="decision-title">
      <DialogTitle id="decision-title" sx={{ '&::first-letter': { textTransform: 'uppercase' } }}>
        {decision} D{no}?
      </DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        <Typography sx={{ overflowWrap: 'anywhere' }}>
          {concession.clauses.join(', ')} on {placeWords(concession)}: {coverageWords(concession).join('; ')}.
        </Typography>
        <Typography>{CONSEQUENCES[decision]}</Typography>
        {decision === 'approve' && (
          <FormControlLabel
            control={<Checkbox checked={withFreeze} onChange={(_, on) => setWithFreeze(on)} />}
            label="Freeze what it covers until it ends; otherwise the next runs of nodes that enforce correct it"
          />
        )}
        <TextField
          label={decision === 'approve' ? 'Reason (optional)' : 'Reason'}
          value={because}
          onChange={(event) => setBecause(event.target.value)}
          margin="dense"
          slotProps={{ htmlInput: { maxLength: 500 } }}
        />
        {decide.error && <Alert severity="error">{problemWords(decide.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={decide.isPending || (decision !== 'approve' && reason === '')}
          onClick={() => decide.mutate()}
          sx={{ textTransform: 'capitalize' }}
        >
          {decision}
        </Button>
      </DialogActions>
    </Dialog>
  );
}
