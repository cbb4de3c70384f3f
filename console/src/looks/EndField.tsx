import TextField from '@mui/material/TextField';

/** The day at whose beginning something ends; empty if it does not end by itself. */
export function EndField({ day, onDay }: { day: string; onDay: (day: string) => void }) {
  return (
    <TextField
      label="Until the beginning of (UTC)"
      type="date"
      value={day}
      onChange={(event) => onDay(event.target.value)}
      helperText="Empty: until it is taken away"
      margin="dense"
      slotProps={{ inputLabel: { shrink: true } }}
    />
  );
}
