import TextField from '@mui/material/TextField';

interface Typed {
  reason: string;
  onReason: (reason: string) => void;
}

/** The reason of what is about to be done, which is kept with it. */
export function ReasonField({ reason, onReason }: Typed) {
  return (
    <TextField
      label="Reason"
      value={reason}
      onChange={(event) => onReason(event.target.value)}
      margin="dense"
      slotProps={{ htmlInput: { maxLength: 500 } }}
      sx={{ flex: 1 }}
    />
  );
}
