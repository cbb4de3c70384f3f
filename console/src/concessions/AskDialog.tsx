import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
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
import { ReasonField } from '../looks/ReasonField';
import { useTyped } from '../shell/useKept';
import { coverageWords } from './concessionWords';

const DAYS = 30;

interface Asked {
  /** What is filled in at first. */
  node: string;
  clause: string;
  onClose: () => void;
}

/** Asks for a concession: what it would cover is shown before it is stored. */
export function AskDialog({ node, clause, onClose }: Asked) {
  const queries = useQueryClient();
  const draft = `concession for ${clause} of ${node}`;
  const [clauses, setClauses] = useTyped(`${draft} clauses`, clause);
  const [filter, setFilter] = useTyped(`${draft} filter`, node ? `node.name == ${JSON.stringify(node)}` : '');
  const [onlyPresent, setOnlyPresent] = useTyped(`${draft} only present nodes`, false);
  const [day, setDay] = useTyped(`${draft} end`, new Date(Date.now() + DAYS * 86_400_000).toISOString().slice(0, 10));
  const [because, setBecause] = useTyped(`${draft} because`, '');
  const [coversUnknown, setCoversUnknown] = useTyped(`${draft} covers unknown`, false);
  const body = (preview: boolean): Schemas['NewConcession'] => ({
    clauses: clauses.split(/\s+/).filter(Boolean),
    filter: filter.trim() || 'true',
    only_present_nodes: onlyPresent,
    until: `${day}T00:00:00Z`,
    because: because.trim(),
    covers_unknown: coversUnknown,
    preview,
  });
  const preview = useMutation({ mutationFn: () => api.askForConcession(body(true)) });
  const ask = useMutation({ mutationFn: () => api.askForConcession(body(false)), onSuccess: onClose, onSettled: () => queries.invalidateQueries() });
  /** What was shown holds for what was typed then. */
  const typed = (set: (value: string) => void) => (event: { target: { value: string } }) => {
    set(event.target.value);
    preview.reset();
  };
  const isWhole = clauses.trim() !== '' && because.trim() !== '' && day !== '';
  const problem = ask.error ?? preview.error;
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="ask-title">
      <DialogTitle id="ask-title">Ask for a concession</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        <TextField
          label="Clauses, or patterns as file:/etc/kiosk/*, one in a line"
          value={clauses}
          onChange={typed(setClauses)}
          margin="dense"
          multiline
          slotProps={{ htmlInput: { spellCheck: false } }}
        />
        <TextField
          label="Nodes where (CEL over labels, about, node.name; empty: all)"
          value={filter}
          onChange={typed(setFilter)}
          margin="dense"
          slotProps={{ htmlInput: { spellCheck: false } }}
        />
        <FormControlLabel
          control={
            <Checkbox
              checked={onlyPresent}
              onChange={(_, on) => {
                setOnlyPresent(on);
                preview.reset();
              }}
            />
          }
          label="Only the nodes that match now, not those that join later"
        />
        <Box sx={{ display: 'flex', gap: 2 }}>
          <TextField
            label="Until the beginning of (UTC)"
            type="date"
            value={day}
            onChange={typed(setDay)}
            margin="dense"
            slotProps={{ inputLabel: { shrink: true } }}
          />
          <ReasonField
            reason={because}
            onReason={(reason) => {
              setBecause(reason);
              preview.reset();
            }}
          />
        </Box>
        <FormControlLabel
          control={
            <Checkbox
              checked={coversUnknown}
              onChange={(_, on) => {
                setCoversUnknown(on);
                preview.reset();
              }}
            />
          }
          label="Also where nothing is known: unexamined clauses, silent nodes"
        />
        {preview.data && (
          <Alert severity="info" variant="outlined">
            It would cover {coverageWords(preview.data).join('; ')}.
            {preview.data.unknown_clauses.map((unknown) => (
              <Typography key={unknown}>No node has a clause {unknown}.</Typography>
            ))}
          </Alert>
        )}
        {problem && <Alert severity="error">{problemWords(problem)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        {preview.data ? (
          <Button variant="contained" disabled={ask.isPending} onClick={() => ask.mutate()}>
            Ask
          </Button>
        ) : (
          <Button variant="contained" disabled={!isWhole || preview.isPending} onClick={() => preview.mutate()}>
            Show what it covers
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}
