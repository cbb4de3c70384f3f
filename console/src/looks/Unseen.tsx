import Box from '@mui/material/Box';
import visuallyHidden from '@mui/utils/visuallyHidden';
import type { ElementType, ReactNode } from 'react';

/** A text for those who hear the page. */
export function Unseen({ component = 'span', children }: { component?: ElementType; children: ReactNode }) {
  return (
    <Box component={component} sx={visuallyHidden}>
      {children}
    </Box>
  );
}
