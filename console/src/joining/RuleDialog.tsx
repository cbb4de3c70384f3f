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
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { someNames } from '../groups/groupWords';
import { useSettled } from '../groups/useSettled';
import { ReasonField } from '../looks/ReasonField';
import { mono } from '../looks/theme';
import { useKept } from '../shell/useKept';
import { clock } from '../words/time';
import { count, waitsBecause } from '../words/words';
import { labelText, typedLabels } from './joiningWords';
import { NOWHERE, PlacementFields, placementOf, type TypedPlacement } from './PlacementFields';

const HOURS = { '24': 'a day', '168': '7 days', '720': '30 days', '2160': '90 days' };

interface Typed {
  invitation: string;
  names: string;
  keys: string;
  table: string;
  atMost: string;
  hours: string;
  because: string;
  placed: TypedPlacement;
}

const NOTHING: Typed = { invitation: '', names: '', keys: '', table: '', atMost: '', hours: '24', because: '', placed: NOWHERE };

function ruleOf(typed: Typed, preview: boolean): Schemas['NewAdmissionRule'] {
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const lines = (text: string) => text.split(/[\n,]+/).flatMap((line) => line.trim() || []);
  return {
    rule: { ...(typed.invitation && { invitation: typed.invitation }), names: words(typed.names), keys: lines(typed.keys) },
    ...(typed.table.trim() && { table_csv: typed.table }),
    ...(typed.atMost.trim() && { at_most: Number(typed.atMost) }),
    for_secs: Number(typed.hours) * 3_600,
    because: typed.because.trim() || (preview ? 'preview' : ''),
    placement: placementOf(typed.placed),
    preview,
  };
}

/** Makes an admission rule. Whom it would let in at once, and why it is wide, is shown while it is filled in. */
export function RuleDialog({ onClose, onMade }: { onClose: () => void; onMade: (no: number) => void }) {
  const queries = useQueryClient();
  const [typed, setTyped, drop] = useKept('admission rule', NOTHING);
  const invitations = useQuery({ queryKey: ['invitations'], queryFn: ({ signal }) => api.invitations(signal) });
  const set = (some: Partial<Typed>) => setTyped({ ...typed, ...some });
  const isEmpty = [typed.invitation, typed.names, typed.keys, typed.table].every((text) => text.trim() === '');
  const isWrong = typedLabels(typed.placed.labels).wrong !== undefined || (typed.atMost.trim() !== '' && !/^[1-9]\d*$/.test(typed.atMost.trim()));
  const wanted = useSettled(JSON.stringify(ruleOf(typed, true)));
  const preview = useQuery({
    queryKey: ['admission', wanted],
    queryFn: ({ signal }) => api.makeAdmissionRule(JSON.parse(wanted) as Schemas['NewAdmissionRule'], signal),
    enabled: !isEmpty && !isWrong,
    placeholderData: (before) => before,
  });
  const make = useMutation({
    mutationFn: () => api.makeAdmissionRule(ruleOf(typed, false)),
    onSuccess: (made) => {
      drop();
      onMade(made.no ?? 0);
    },
    // What was tried is not tried again of what is done.
    onSettled: () => queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'admission' }),
  });
  const problem = make.error ?? (isEmpty || isWrong ? null : preview.error);
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="rule-title">
      <DialogTitle id="rule-title">Make an admission rule</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        <Typography sx={{ color: 'text.secondary' }}>A machine is let in if it meets all of these that are filled in.</Typography>
        <Box sx={{ display: 'grid', gap: 1, gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, alignItems: 'start' }}>
          <TextField
            select
            label="It comes with the invitation"
            value={typed.invitation}
            onChange={(event) => set({ invitation: event.target.value })}
            margin="dense"
          >
            <MenuItem value="">any</MenuItem>
            {(invitations.data ?? []).map((invitation) => (
              <MenuItem key={invitation.id} value={invitation.id}>
                of {invitation.made_by}, {clock(invitation.made_at)}: {count(invitation.uses_left, 'use')} left {labelText(invitation.labels)}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label="Its name is, or fits"
            placeholder="kiosk-lab-*"
            value={typed.names}
            onChange={(event) => set({ names: event.target.value })}
            margin="dense"
            slotProps={{ htmlInput: { spellCheck: false } }}
          />
          <TextField
            label="Its key has one of the fingerprints, one in a line"
            value={typed.keys}
            onChange={(event) => set({ keys: event.target.value })}
            margin="dense"
            multiline
            maxRows={4}
            slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: 13 } } }}
          />
          <TextField
            label="The table names it, CSV: name, fingerprint, labels"
            placeholder={'name,fingerprint,site\nkiosk-lab-1,,auken'}
            value={typed.table}
            onChange={(event) => set({ table: event.target.value })}
            margin="dense"
            multiline
            maxRows={6}
            slotProps={{ htmlInput: { spellCheck: false, style: { fontFamily: mono, fontSize: 13 } } }}
          />
          <TextField
            label="How many machines at most"
            value={typed.atMost}
            onChange={(event) => set({ atMost: event.target.value })}
            margin="dense"
            slotProps={{ htmlInput: { inputMode: 'numeric' } }}
          />
          <TextField select label="It holds for" value={typed.hours} onChange={(event) => set({ hours: event.target.value })} margin="dense">
            {Object.entries(HOURS).map(([hours, words]) => (
              <MenuItem key={hours} value={hours}>
                {words}
              </MenuItem>
            ))}
          </TextField>
          <PlacementFields placed={typed.placed} onPlaced={(placed) => set({ placed })} withGroups={false} />
          <ReasonField reason={typed.because} onReason={(because) => set({ because })} />
        </Box>
        {problem && (
          <Alert severity="error" sx={{ whiteSpace: 'pre-line' }}>
            {problemWords(problem)}
          </Alert>
        )}
        {preview.data && !preview.error && !isEmpty && <Outcome outcome={preview.data} />}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={make.isPending || isEmpty || isWrong || preview.error !== null || typed.because.trim() === ''}
          onClick={() => make.mutate()}
        >
          Make the rule
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Outcome({ outcome: { warnings, waiting, known } }: { outcome: Schemas['AdmissionOutcome'] }) {
  const letIn = waiting.filter(({ waits_because }) => !waits_because).map(({ name }) => name);
  const stay = waiting.flatMap(({ name, waits_because }) => (waits_because ? `${name} ${waitsBecause(waits_because)}` : []));
  return (
    <>
      {warnings.length > 0 && (
        <Alert severity="warning" variant="outlined">
          It is wide: {warnings.join('; ')}.
        </Alert>
      )}
      <Alert severity="info" variant="outlined" aria-live="polite">
        {letIn.length > 0
          ? `At once it lets in ${count(letIn.length, 'waiting machine')}: ${someNames(letIn, letIn.length, 10)}. `
          : 'No machine that waits now is let in. '}
        {stay.length > 0 && `Waiting for a person all the same: ${someNames(stay, stay.length, 5)}. `}
        {known.length > 0 &&
          `${count(known.length, 'known node')} would be let in again after their certificates ended: ${someNames(known, known.length, 10)}.`}
      </Alert>
    </>
  );
}
