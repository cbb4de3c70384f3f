import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';

const PARTS = [
  { part: 'compliant', colour: 'status.in_line' },
  { part: 'noncompliant', colour: 'status.failed' },
  { part: 'conceded', colour: 'status.rollout_waiting' },
  { part: 'unexamined', colour: 'hairline' },
  { part: 'unknown', colour: 'status.silent' },
] as const;

/** How clauses divide into compliant, noncompliant, conceded, unexamined and unknown. Its words say the same. */
export function ShareBar({ clauses }: { clauses: Schemas['ClauseCounts'] }) {
  if (PARTS.every(({ part }) => clauses[part] === 0)) return <Box sx={{ color: 'text.secondary' }}>no clauses</Box>;
  const words = PARTS.filter(({ part }) => clauses[part] > 0).map(({ part }) => `${clauses[part]} ${part}`);
  return (
    <Box role="img" aria-label={words.join(', ')} title={words.join(', ')} sx={{ display: 'flex', height: 12, minWidth: 160, bgcolor: 'sunken' }}>
      {PARTS.map(({ part, colour }) => clauses[part] > 0 && <Box key={part} sx={{ flexGrow: clauses[part], flexBasis: 0, minWidth: 3, bgcolor: colour }} />)}
    </Box>
  );
}

/** What the colours of the bars mean. */
export function Legend() {
  return (
    <Box aria-hidden sx={{ display: 'flex', gap: 1.5, fontSize: 13, color: 'text.secondary' }}>
      {PARTS.map(({ part, colour }) => (
        <Box key={part} sx={{ display: 'flex', gap: 0.5, alignItems: 'center' }}>
          <Box sx={{ width: 10, height: 10, bgcolor: colour }} />
          {part}
        </Box>
      ))}
    </Box>
  );
}
