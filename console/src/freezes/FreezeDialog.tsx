import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { api, type Schemas } from '../api/client';
import { someNames } from '../groups/groupWords';
import { ReasonDialog } from '../shell/ReasonDialog';
import { useKept, useTyped } from '../shell/useKept';
import { count } from '../words/words';
import { frozenClauses, frozenNodes } from './freezeWords';

const HOUR = 3_600;
const SPANS: [number, string][] = [
  [HOUR, '1 hour'],
  [4 * HOUR, '4 hours'],
  [24 * HOUR, '1 day'],
  [7 * 24 * HOUR, '7 days'],
  [30 * 24 * HOUR, '30 days'],
  [90 * 24 * HOUR, '90 days'],
];

interface Frozen {
  /** The nodes; none are all. */
  names: string[];
  onClose: () => void;
}

/** Sets a freeze: it waits for no change, and is in force at once on nodes that can be woken, on others from their next check-in on. */
export function FreezeDialog({ names, onClose }: Frozen) {
  const [clauses, setClauses, drop] = useKept('clauses of a freeze', '');
  const [secs, setSecs] = useTyped('length of a freeze', 4 * HOUR);
  const close = () => {
    drop();
    onClose();
  };
  const which = names.length === 0 ? 'all nodes' : someNames(names, names.length);
  const wanted = clauses.split(/\s*\n\s*/).filter(Boolean);
  return (
    <ReasonDialog
      title={`Freeze ${names.length === 0 ? 'all nodes' : names.length === 1 ? names[0] : `${names.length} nodes`}`}
      action="Freeze"
      act={(because) => api.setFreeze({ nodes: names, clauses: wanted, for_secs: secs, because })}
      onClose={close}
    >
      <Typography sx={{ color: 'text.secondary' }}>
        Nothing is corrected on {which} until the hour comes; drift is still found and reported. A freeze waits for no change: it is in force within two seconds
        on nodes that can be woken, on the others from their next check-in on.
      </Typography>
      <TextField select label="For" value={secs} onChange={(event) => setSecs(Number(event.target.value))} margin="dense">
        {SPANS.map(([secs, words]) => (
          <MenuItem key={secs} value={secs}>
            {words}
          </MenuItem>
        ))}
      </TextField>
      <TextField
        label="Only these clauses, or patterns as file:/etc/ssh/*, one in a line (empty: all)"
        value={clauses}
        onChange={(event) => setClauses(event.target.value)}
        margin="dense"
        multiline
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
    </ReasonDialog>
  );
}

/** Ends a freeze before its hour. */
export function EndFreezeDialog({ freeze, onClose }: { freeze: Schemas['FreezeShown']; onClose: () => void }) {
  return (
    <ReasonDialog title={`End F${freeze.no}?`} action="End it" act={(because) => api.endFreeze(freeze.no, { because })} onClose={onClose}>
      <Typography>
        From their next check-ins on, {frozenClauses(freeze)} on {frozenNodes(freeze)} are corrected again, as mode, switches and change windows say.
      </Typography>
    </ReasonDialog>
  );
}

/** Ends several freezes for one reason; what is over already stays so. */
export function EndFreezesDialog({ numbers, onClose }: { numbers: number[]; onClose: () => void }) {
  const end = async (because: string) => {
    for (const no of numbers) await api.endFreeze(no, { because });
  };
  return (
    <ReasonDialog title={`End ${count(numbers.length, 'freeze')}?`} action="End them" act={end} onClose={onClose}>
      <Typography>{numbers.map((no) => `F${no}`).join(', ')}: what they keep is corrected again, as mode, switches and change windows say.</Typography>
    </ReasonDialog>
  );
}
