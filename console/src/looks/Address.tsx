import Box from '@mui/material/Box';
import { mono } from './theme';

/** Literal text: an address, a command, a digest. */
export function Address({ children }: { children: string }) {
  return (
    <Box component="span" sx={{ fontFamily: mono, fontSize: 13, overflowWrap: 'anywhere' }}>
      {children}
    </Box>
  );
}
