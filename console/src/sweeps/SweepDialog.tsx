import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { useSettled } from '../groups/useSettled';
import { CopiedCommand } from '../looks/CopiedCommand';
import { ReasonField } from '../looks/ReasonField';
import { mayOn, sessionQuery } from '../shell/session';
import { useTyped } from '../shell/useKept';
import { exact } from '../words/time';
import { PlanView } from './PlanView';
import { asCommand, sweepAddress } from './sweepWords';

const HOUR = 3_600;
const SPANS = [
  [HOUR / 4, '15 minutes'],
  [HOUR, '1 hour'],
  [8 * HOUR, '8 hours'],
  [24 * HOUR, '1 day'],
] as const;

interface Asked {
  /** The nodes by name, or the filter that selects them. */
  nodes?: string[];
  filter?: string;
  /** The nodes in words. */
  where: string;
  /** What is chosen of their clauses at first. */
  part?: Schemas['Part'];
  /** Exactly what this observing sweep found is corrected. */
  after?: number;
  /** Whether the named clauses are corrected once. */
  correctOnce?: boolean;
  onClose: () => void;
}

interface Typed {
  mode: Schemas['Mode'];
  clauses: string;
  baseline: string;
  topics: string;
  readAll: boolean;
  now: boolean;
  although: boolean;
  directly: boolean;
  /** From when on they begin it; at once if it is empty. */
  beginsAt: string;
  secs: number;
  because: string;
}

/** Begins a sweep: what each node would do is shown while it is filled in. */
export function SweepDialog({ nodes, filter, where, part, after, correctOnce = false, onClose }: Asked) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const session = useQuery(sessionQuery);
  const may = mayOn(session.data);
  const isFixed = after !== undefined || correctOnce;
  const [typed, setTyped] = useTyped<Typed>(`sweep over ${where} ${after ?? ''} ${(part?.clauses ?? []).join(' ')}`, {
    mode: isFixed ? 'enforce' : 'observe',
    clauses: (part?.clauses ?? []).join('\n'),
    baseline: part?.baseline ?? '',
    topics: (part?.topics ?? []).join(' '),
    readAll: false,
    now: false,
    although: false,
    directly: false,
    beginsAt: '',
    secs: HOUR,
    because: '',
  });
  const set = (altered: Partial<Typed>) => setTyped({ ...typed, ...altered });
  const enforces = typed.mode === 'enforce';
  const clauses = typed.clauses.split(/\s*\n\s*/).filter(Boolean);
  const topics = typed.topics.split(/[\s,]+/).filter(Boolean);
  const order: Schemas['SweepOrder'] = {
    mode: typed.mode,
    part: after === undefined ? { clauses, ...(topics.length > 0 && { topics }), ...(typed.baseline && { baseline: typed.baseline }) } : {},
    read_all: typed.readAll,
    now: enforces && typed.now,
    although_observing: enforces && typed.although,
    correct_once: correctOnce,
  };
  const which = after === undefined ? (nodes ? { nodes } : { filter: filter ?? '' }) : { after };
  const body = (because: string, preview: boolean, order: Schemas['SweepOrder'], directly: boolean) => ({
    order,
    ...which,
    because,
    preview,
    directly,
    for_secs: typed.secs,
    ...(order.mode === 'enforce' && typed.beginsAt && { begins_at: typed.beginsAt }),
  });
  const looked = useSettled(JSON.stringify(body('looked at', true, order, false)));
  const plan = useQuery({
    queryKey: ['sweep plan', looked],
    queryFn: () => api.sweep(JSON.parse(looked) as Schemas['NewSweep']),
    placeholderData: (before) => before,
    meta: { isRefreshedByTimeOnly: true },
  });
  const planned = plan.data?.plan;
  const isMany = after === undefined && (planned?.nodes ?? 0) > 1;
  // Several nodes are observed first; then exactly what was found can be corrected.
  const observesFirst = enforces && isMany && !typed.directly;
  const begin = useMutation({
    mutationFn: () => {
      const first: Schemas['SweepOrder'] = { ...order, mode: 'observe', although_observing: false };
      return api.sweep(body(typed.because.trim(), false, observesFirst ? first : order, typed.directly));
    },
    onSuccess: ({ no }) => {
      onClose();
      if (no) void navigate(sweepAddress(no));
    },
    onSettled: () => queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'sweep plan' }),
  });
  const title = after !== undefined ? `Enforce exactly what S${after} found` : correctOnce ? `Correct once on ${where}` : `Run now on ${where}`;
  const action = observesFirst ? 'Observe first' : enforces ? (correctOnce ? 'Correct once' : 'Enforce') : 'Observe';
  const problem = begin.error ?? plan.error;
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="sweep-title">
      <DialogTitle id="sweep-title">{title}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        {!isFixed && (
          <ToggleButtonGroup
            exclusive
            size="small"
            value={typed.mode}
            onChange={(_, mode: Schemas['Mode'] | null) => mode && set({ mode })}
            aria-label="What they do"
          >
            <ToggleButton value="observe">observe: nothing is changed</ToggleButton>
            <ToggleButton value="enforce">enforce</ToggleButton>
          </ToggleButtonGroup>
        )}
        {after === undefined && !correctOnce && (
          <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
            <TextField
              label="Only these clauses, or patterns as file:/etc/ssh/*, one in a line (empty: all)"
              value={typed.clauses}
              onChange={(event) => set({ clauses: event.target.value })}
              margin="dense"
              multiline
              sx={{ flex: 2, minWidth: 260 }}
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
            <TextField
              label="Only this baseline (empty: all)"
              value={typed.baseline}
              onChange={(event) => set({ baseline: event.target.value })}
              margin="dense"
              sx={{ flex: 1, minWidth: 180 }}
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
            <TextField
              label="Only these topics (empty: all)"
              value={typed.topics}
              onChange={(event) => set({ topics: event.target.value })}
              margin="dense"
              sx={{ flex: 1, minWidth: 180 }}
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
          </Box>
        )}
        <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2 }}>
          {after === undefined && <Choice label="Read everything anew" on={typed.readAll} onOn={(readAll) => set({ readAll })} />}
          {enforces && (
            <Choice
              label={`Do not wait for grace or change windows${may.includes('run.outside_window') ? '' : ': for approvers and administrators'}`}
              on={typed.now}
              isDisabled={!may.includes('run.outside_window')}
              onOn={(now) => set({ now })}
            />
          )}
          {enforces && <Choice label="Also nodes whose mode is observe" on={typed.although} onOn={(although) => set({ although })} />}
          {enforces && !observesFirst && (typed.beginsAt || planned?.opens) && (
            <Choice
              label={`Begin when the windows are open: ${exact(typed.beginsAt || (planned?.opens ?? ''))}`}
              on={typed.beginsAt !== ''}
              onOn={(on) => set({ beginsAt: on ? (planned?.opens ?? '') : '' })}
            />
          )}
          {enforces && isMany && <Choice label="Without observing them first" on={typed.directly} onOn={(directly) => set({ directly })} />}
        </Box>
        {observesFirst && (
          <Typography sx={{ color: 'text.secondary' }}>
            They are observed first. Then exactly what was found can be corrected; what changes meanwhile is left.
          </Typography>
        )}
        <PlanView plan={planned} />
        <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
          <TextField
            select
            label="Nodes may begin it for"
            value={typed.secs}
            onChange={(event) => set({ secs: Number(event.target.value) })}
            margin="dense"
            sx={{ minWidth: 180 }}
          >
            {SPANS.map(([secs, words]) => (
              <MenuItem key={secs} value={secs}>
                {words}
              </MenuItem>
            ))}
          </TextField>
          <ReasonField reason={typed.because} onReason={(because) => set({ because })} />
        </Box>
        {problem && <Alert severity="error">{problemWords(problem)}</Alert>}
      </DialogContent>
      <DialogActions>
        {after === undefined && <CopiedCommand command={asCommand({ order, which: filter, nodes })} />}
        <Box sx={{ flex: 1 }} />
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={begin.isPending || typed.because.trim() === '' || planned?.asked === 0} onClick={() => begin.mutate()}>
          {action}
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Choice({ label, on, isDisabled, onOn }: { label: string; on: boolean; isDisabled?: boolean; onOn: (on: boolean) => void }) {
  return <FormControlLabel control={<Checkbox size="small" checked={on} disabled={isDisabled} onChange={(_, on) => onOn(on)} />} label={label} />;
}
