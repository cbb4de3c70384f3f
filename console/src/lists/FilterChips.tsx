import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import type { List } from './useList';

/** What is looked for most in a list, as filters of it: in words, how many entries it has, the filter. Those without entries are left out. */
export function FilterChips<T>({ chips, list }: { chips: readonly (readonly [string, number, string])[]; list: List<T> }) {
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, mb: 1 }}>
      {chips.map(
        ([words, entries, filter]) =>
          (entries > 0 || filter === '') && (
            <Button
              key={words}
              size="small"
              variant={list.filter === filter ? 'contained' : 'outlined'}
              aria-pressed={list.filter === filter}
              onClick={() => list.onFilter(filter)}
            >
              {words} {entries}
            </Button>
          ),
      )}
    </Box>
  );
}
