import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { type ReactNode, useId } from 'react';
import { Wide } from './Wide';

/** A panel with a heading. On narrow screens what is wider scrolls in it. */
export function Card({ title, aside, children }: { title?: string; aside?: ReactNode; children: ReactNode }) {
  const id = useId();
  return (
    <Paper component="section" aria-labelledby={title ? id : undefined} sx={{ p: 2.5, minWidth: 0 }}>
      {title && (
        <Box sx={{ display: 'flex', flexWrap: 'wrap', justifyContent: 'space-between', alignItems: 'baseline', columnGap: 2, mb: 1.5 }}>
          <Typography variant="h2" id={id} sx={{ whiteSpace: 'nowrap' }}>
            {title}
          </Typography>
          {aside}
        </Box>
      )}
      <Wide>{children}</Wide>
    </Paper>
  );
}
