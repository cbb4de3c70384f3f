import Box from '@mui/material/Box';
import type { ReactNode } from 'react';

export interface Share {
  nodes: number;
  words: string;
  /** Of the theme. */
  colour: string;
}

/** How nodes divide, as a bar whose words below say the same. Shares without nodes are left out. */
export function SharesBar({ shares, height, first }: { shares: Share[]; height: number; first?: ReactNode }) {
  const shown = shares.filter(({ nodes }) => nodes > 0);
  const words = shown.map(({ nodes, words }) => `${nodes} ${words}`).join(', ');
  return (
    <>
      <Box role="img" aria-label={words || 'no node'} sx={{ display: 'flex', height, bgcolor: 'sunken', my: 0.75 }}>
        {shown.map(({ nodes, words, colour }) => (
          <Box key={words} sx={{ flexGrow: nodes, flexBasis: 0, minWidth: 3, bgcolor: colour }} />
        ))}
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, rowGap: 0.5 }}>
        {first}
        {shown.map(({ nodes, words, colour }) => (
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
