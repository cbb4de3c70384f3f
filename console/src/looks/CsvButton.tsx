import Button from '@mui/material/Button';
import { save, toCsv } from '../words/csv';

/** Saves what a list shows as CSV. */
export function CsvButton({ name, heads, rows }: { name: string; heads: string[]; rows: () => string[][] }) {
  return (
    <Button variant="text" color="inherit" onClick={() => save(`${name}.csv`, toCsv(heads, rows()))} sx={{ color: 'text.secondary', fontWeight: 400 }}>
      CSV
    </Button>
  );
}
