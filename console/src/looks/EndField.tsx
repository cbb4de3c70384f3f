import TextField from '@mui/material/TextField';

/** The minute at which something ends; empty if it does not end by itself. */
export function EndField({ end, onEnd, label = 'Until (UTC)' }: { end: string; onEnd: (end: string) => void; label?: string }) {
  return (
    <TextField
      label={label}
      type="datetime-local"
      value={end}
      onChange={(event) => onEnd(event.target.value)}
      helperText="Empty: until it is taken away"
      margin="dense"
      size="small"
      slotProps={{ inputLabel: { shrink: true } }}
    />
  );
}

/** What was typed as a moment; none if nothing was. */
export function momentOf(end: string): string | undefined {
  return end === '' ? undefined : `${end}:00Z`;
}

/** A moment as it is typed, to the minute. */
export function typedMoment(moment?: string | null): string {
  return moment ? new Date(moment).toISOString().slice(0, 16) : '';
}
