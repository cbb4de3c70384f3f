import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { ReasonField } from '../looks/ReasonField';
import { mono } from '../looks/theme';
import { useTyped } from '../shell/useKept';
import { exact } from '../words/time';
import { count } from '../words/words';
import { AskDialog } from './AskDialog';
import { nextWords } from './wakeWords';

/** So often it is looked whether it has told. */
const EVERY = 500;

/** Asks a node what is there, and shows the clauses that would keep it so. */
export function InspectDialog({ name, onClose }: { name: string; onClose: () => void }) {
  const [typed, setTyped] = useTyped(`inspect ${name}`, { kind: 'file', thing: '', because: '' });
  const set = (altered: Partial<typeof typed>) => setTyped({ ...typed, ...altered });
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: ({ signal }) => api.kinds(signal) });
  const thing = typed.thing.trim();
  return (
    <AskDialog
      title={`Inspect ${name}`}
      what="The node tells what is there, as the clauses that would keep it so. Nothing on it is altered, and what not everybody on it may read is not told. That you asked is kept in the audit trail."
      form={
        <>
          <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
            <TextField
              select
              label="Kind"
              value={typed.kind}
              onChange={(event) => set({ kind: event.target.value })}
              margin="dense"
              sx={{ flex: 1, minWidth: 150 }}
            >
              {(kinds.data ?? [{ name: typed.kind }]).map(({ name }) => (
                <MenuItem key={name} value={name}>
                  {name}
                </MenuItem>
              ))}
            </TextField>
            <TextField
              label="Name, a path for files (empty: all of the kind)"
              value={typed.thing}
              onChange={(event) => set({ thing: event.target.value })}
              margin="dense"
              sx={{ flex: 2, minWidth: 260 }}
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
          </Box>
          <ReasonField reason={typed.because} onReason={(because) => set({ because })} />
        </>
      }
      isReady={typed.because.trim() !== ''}
      action="Inspect"
      ask={() => api.inspect({ node: name, kind: typed.kind, ...(thing && { name: thing }), because: typed.because.trim() })}
      progress={(inspection) => <Told asked={inspection} />}
      command={({ no }) => `constans node inspect --inspection I${no}`}
      onClose={onClose}
    />
  );
}

function Told({ asked }: { asked: Schemas['Inspection'] }) {
  const shown = useQuery({
    queryKey: ['inspection', asked.no],
    queryFn: ({ signal }) => api.inspectionShown(asked.no, signal),
    initialData: asked,
    refetchInterval: ({ state }) => (state.data?.told_at ? false : EVERY),
    meta: { isRefreshedByTimeOnly: true },
  });
  const { no, kind, name, told_at, was_waiting, next_check_in, ends_at, report, text } = shown.data;
  const left = report?.left_out ?? 0;
  const waits = was_waiting ? 'the node was woken' : `the node cannot be woken; it ${nextWords(next_check_in)}`;
  return (
    <>
      <Typography role="status" sx={{ fontWeight: 600 }}>
        I{no}, {kind} {name ?? '(all)'}: {told_at ? `told at ${exact(told_at)}` : `${waits}; it is asked until ${exact(ends_at)}`}
      </Typography>
      {report?.failed && <Alert severity="warning">{report.failed}</Alert>}
      {told_at && !report?.failed && !text && left === 0 && <Typography>There is none.</Typography>}
      {text && (
        <Box
          component="pre"
          role="region"
          tabIndex={0}
          aria-label="What it told"
          sx={{ fontFamily: mono, bgcolor: 'sunken', p: 1.5, m: 0, overflow: 'auto', maxHeight: 360, fontSize: 13 }}
        >
          {text}
        </Box>
      )}
      {left > 0 && <Typography>{count(left, 'more thing')} would be too much to tell.</Typography>}
    </>
  );
}
