import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import TextField from '@mui/material/TextField';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { useTyped } from '../shell/useKept';
import { DAYS, type Hours } from './hours';

interface Edited {
  title: string;
  hours: Hours[];
  onHours: (hours: Hours[]) => void;
  onClose: () => void;
}

/** The hours of the week in which the clauses of an assignment may be corrected. */
export function HoursDialog({ title, hours, onHours, onClose }: Edited) {
  const [edited, setEdited] = useTyped(title, hours);
  const set = (at: number, altered: Partial<Hours>) => setEdited(edited.map((one, index) => (index === at ? { ...one, ...altered } : one)));
  const isWhole = edited.every(({ from, until }) => from !== '' && until !== '');
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="hours-title">
      <DialogTitle id="hours-title">{title}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Typography sx={{ color: 'text.secondary' }}>
          Within the node's own change window and in its time zone. Until earlier than from: on the next day. Without any hours they are corrected at any time.
        </Typography>
        {edited.map((one, at) => (
          // The place is all that tells times of a week apart.
          // biome-ignore lint/suspicious/noArrayIndexKey: see above
          <Box key={at} role="group" aria-label={`time ${at + 1}`} sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', alignItems: 'center' }}>
            <ToggleButtonGroup
              size="small"
              aria-label="Days; none: every day"
              value={one.days ?? []}
              onChange={(_, days: Schemas['Day'][]) => set(at, { days: DAYS.filter((day) => days.includes(day)) })}
            >
              {DAYS.map((day) => (
                <ToggleButton key={day} value={day}>
                  {day}
                </ToggleButton>
              ))}
            </ToggleButtonGroup>
            <TextField
              size="small"
              type="time"
              label="From"
              value={one.from}
              onChange={(event) => set(at, { from: event.target.value })}
              slotProps={{ inputLabel: { shrink: true } }}
            />
            <TextField
              size="small"
              type="time"
              label="Until"
              value={one.until}
              onChange={(event) => set(at, { until: event.target.value })}
              slotProps={{ inputLabel: { shrink: true } }}
            />
            <Button variant="text" size="small" onClick={() => setEdited(edited.filter((_, index) => index !== at))} aria-label={`Remove time ${at + 1}`}>
              Remove
            </Button>
          </Box>
        ))}
        <Button variant="outlined" sx={{ justifySelf: 'start' }} onClick={() => setEdited([...edited, { from: '22:00', until: '04:00' }])}>
          Add a time
        </Button>
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button
          variant="contained"
          disabled={!isWhole}
          onClick={() => {
            onHours(edited);
            onClose();
          }}
        >
          Take over
        </Button>
      </DialogActions>
    </Dialog>
  );
}
