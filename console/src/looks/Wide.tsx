import Box from '@mui/material/Box';
import type { ReactNode } from 'react';

/** What may be wider than its place: it scrolls by itself, and not the page. */
export function Wide({ children }: { children: ReactNode }) {
  return <Box sx={{ overflowX: { xs: 'auto', lg: 'visible' }, minWidth: 0 }}>{children}</Box>;
}
