import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';

/** The moment that is asked about, in the reader's zone; the address has it in UTC. */
export function AsOf({ asOf, onAsOf, empty = 'as of now' }: { asOf: string; onAsOf: (asOf: string) => void; empty?: string }) {
  const chosen = (local: string) => {
    const at = new Date(local);
    if (!Number.isNaN(at.getTime())) onAsOf(`${at.toISOString().slice(0, 19)}Z`);
  };
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'center', whiteSpace: 'nowrap' }}>
      <TextField
        type="datetime-local"
        size="small"
        value={asOf ? local(asOf) : ''}
        onChange={(event) => chosen(event.target.value)}
        slotProps={{ htmlInput: { 'aria-label': 'As of', sx: { py: 0.75 } } }}
      />
      {asOf ? <Button onClick={() => onAsOf('')}>Now</Button> : <Typography sx={{ color: 'text.secondary' }}>{empty}</Typography>}
    </Box>
  );
}

function local(asOf: string): string {
  const at = new Date(asOf);
  return new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}
