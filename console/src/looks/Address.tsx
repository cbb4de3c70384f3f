import Box from '@mui/material/Box';
import { mono } from './theme';

/** A clause's address, a command, a digest: what is typed as it stands. */
export function Address({ children }: { children: string }) {
  return (
    <Box component="span" sx={{ fontFamily: mono, fontSize: 13, overflowWrap: 'anywhere' }}>
      {children}
    </Box>
  );
}
