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
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { changeAddress, confirmation } from '../changes/changeWords';
import { ImpactView } from '../changes/ImpactView';
import { useSettled } from '../groups/useSettled';
import { CopiedCommand } from '../looks/CopiedCommand';
import { useTyped } from '../shell/useKept';
import { count } from '../words/words';
import { asCommand, readWaves, SETTLES } from './rolloutWords';

interface Asked {
  no: number;
  what: string;
  impact: Schemas['Impact'];
  typedFrom: number;
  onClose: () => void;
  /** When it is on its way. */
  onHandedOut?: () => void;
}

/** Hands a change out in waves: which nodes each would have is shown while they are filled in. */
export function RolloutDialog({ no, what, impact, typedFrom, onClose, onHandedOut }: Asked) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [typed, setTyped] = useTyped(`rollout of C${no}`, { waves: '5%, 25%, 100%', settle: 1_800, bad: '2', within: '' });
  const [number, setNumber] = useState('');
  const set = (altered: Partial<typeof typed>) => setTyped({ ...typed, ...altered });
  const waves = readWaves(typed.waves);
  const bad = /^\d{1,2}$/.test(typed.bad.trim()) ? Number(typed.bad) : undefined;
  const within = typed.within.trim();
  const plan = waves && bad !== undefined ? { waves, settle_secs: typed.settle, bad_above_percent: bad, ...(within && { within }) } : undefined;
  const looked = useSettled(JSON.stringify(plan ?? null));
  const planned = useQuery({
    queryKey: ['rollout plan', no, looked],
    queryFn: () => api.rollout({ change: no, plan: JSON.parse(looked) as Schemas['RolloutPlan'], preview: true }),
    enabled: looked !== 'null',
    placeholderData: (before) => before,
    meta: { isRefreshedByTimeOnly: true },
  });
  const begin = useMutation({
    mutationFn: (plan: Schemas['RolloutPlan']) => api.rollout({ change: no, plan, confirmed: confirmation(impact) }),
    onSuccess: () => {
      onHandedOut?.();
      onClose();
      void navigate(changeAddress(no));
    },
    onSettled: () => queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'rollout plan' }),
  });
  const mustType = impact.takes > 0 && impact.takes_from >= typedFrom;
  const problem = begin.error ?? planned.error;
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="rollout-title">
      <DialogTitle id="rollout-title">
        Hand out C{no} in waves: {what}
      </DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1.5 }}>
        <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
          <TextField
            label="Percent of the nodes after each wave"
            value={typed.waves}
            onChange={(event) => set({ waves: event.target.value })}
            error={!waves}
            helperText={waves ? ' ' : 'rising, 100% at the end'}
            margin="dense"
            sx={{ flex: 2, minWidth: 220 }}
          />
          <TextField
            select
            label="Each wave settles for"
            value={typed.settle}
            onChange={(event) => set({ settle: Number(event.target.value) })}
            margin="dense"
            sx={{ minWidth: 160 }}
          >
            {SETTLES.map(([secs, words]) => (
              <MenuItem key={secs} value={secs}>
                {words}
              </MenuItem>
            ))}
          </TextField>
          <TextField
            label="Halts above this % of bad nodes"
            value={typed.bad}
            onChange={(event) => set({ bad: event.target.value })}
            error={bad === undefined}
            helperText={bad === undefined ? '0 to 99' : 'at least 3, or all of a smaller wave'}
            margin="dense"
            sx={{ minWidth: 200 }}
          />
          <TextField
            label="Within each value of a label"
            value={typed.within}
            onChange={(event) => set({ within: event.target.value })}
            helperText="for example site; empty: of all nodes"
            margin="dense"
            sx={{ minWidth: 200 }}
            slotProps={{ htmlInput: { spellCheck: false } }}
          />
        </Box>
        <Box component="ol" aria-label="Waves" sx={{ m: 0, pl: 3 }}>
          {planned.data?.waves.map(({ percent, nodes, names }) => (
            <li key={percent}>
              <b>{percent} %</b>: {count(nodes, 'node')}
              {names.length > 0 && `: ${names.join(', ')}`}
              {nodes > names.length && ` and ${(nodes - names.length).toLocaleString('en')} more`}
            </li>
          ))}
        </Box>
        <Typography sx={{ color: 'text.secondary' }}>
          Bad are nodes on which something failed, that cannot be resolved, or that were not heard again after they received it. Nodes that are silent get it
          when they return.
        </Typography>
        <ImpactView impact={impact} />
        {mustType && (
          <TextField
            label={`Type the number of nodes that clauses are taken from (${count(impact.takes_from, 'node')})`}
            value={number}
            onChange={(event) => setNumber(event.target.value)}
            margin="dense"
          />
        )}
        {problem && <Alert severity="error">{problemWords(problem)}</Alert>}
      </DialogContent>
      <DialogActions>
        {plan && <CopiedCommand command={asCommand(no, plan)} />}
        <Box sx={{ flex: 1 }} />
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={begin.isPending || !plan || planned.isError || (mustType && number.trim() !== String(impact.takes_from))}
          onClick={() => plan && begin.mutate(plan)}
        >
          Begin the first wave
        </Button>
      </DialogActions>
    </Dialog>
  );
}
