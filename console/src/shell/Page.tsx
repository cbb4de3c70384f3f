import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { type ReactNode, useEffect } from 'react';

/** A page with its heading, which is also the title of the window. */
export function Page({ title, heading, children }: { title: string; heading?: ReactNode; children: ReactNode }) {
  useEffect(() => {
    document.title = `${title} · Constans`;
  }, [title]);
  return (
    <Box component="main" id="main" tabIndex={-1} sx={{ maxWidth: 1360, mx: 'auto', px: { xs: 2, md: 5 }, py: 2.5, outline: 'none' }}>
      {heading === undefined ? (
        <Typography variant="h1" sx={{ mb: 2 }}>
          {title}
        </Typography>
      ) : (
        heading
      )}
      {children}
    </Box>
  );
}
