import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';

/** How the nodes of a sweep divide. Its words say the same. */
export function SweepBar({ sweep: { counts } }: { sweep: Schemas['Sweep'] }) {
  const others = counts.done - counts.in_line - counts.failed;
  const parts = [
    { nodes: counts.in_line, words: 'in line', colour: 'status.in_line' },
    { nodes: others, words: 'not in line', colour: 'status.drift_found' },
    { nodes: counts.failed, words: 'failed', colour: 'status.failed' },
    { nodes: counts.begun, words: 'running', colour: 'primary.main' },
    { nodes: counts.refused, words: 'refused', colour: 'status.unmet' },
    { nodes: counts.not_reached, words: 'not reached', colour: 'status.silent' },
    { nodes: counts.pending + counts.offered, words: 'not received yet', colour: 'hairline' },
  ].filter(({ nodes }) => nodes > 0);
  const words = parts.map(({ nodes, words }) => `${nodes} ${words}`).join(', ');
  return (
    <>
      <Box role="img" aria-label={words} sx={{ display: 'flex', height: 16, bgcolor: 'sunken', mb: 1 }}>
        {parts.map(({ nodes, words, colour }) => (
          <Box key={words} sx={{ flexGrow: nodes, flexBasis: 0, minWidth: 3, bgcolor: colour }} />
        ))}
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, rowGap: 0.5 }}>
        <span>
          <b>{counts.done}</b> of {counts.nodes} done
        </span>
        {parts.map(({ nodes, words, colour }) => (
          <Box component="span" key={words} sx={{ display: 'inline-flex', gap: 0.75, alignItems: 'center' }}>
            <Box aria-hidden component="span" sx={{ width: 10, height: 10, bgcolor: colour }} />
            <span>
              <b>{nodes}</b> {words}
            </span>
          </Box>
        ))}
      </Box>
    </>
  );
}
