import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import { Refused } from '../api/client';
import { StatusGlyph } from '../looks/StatusGlyph';

/** The frame of the sign-in pages. A failure keeps the input. */
export function EntryCard({ title, failure, children }: { title: string; failure: Error | null; children: ReactNode }) {
  const problem = failure instanceof Refused ? failure.problem : undefined;
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', placeItems: 'center', p: 2 }}>
      <Paper sx={{ p: 4, width: 420, maxWidth: '100%' }}>
        <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, color: 'primary.main', mb: 2 }}>
          <StatusGlyph status="in_line" size={24} />
          <Typography variant="h1" sx={{ color: 'text.primary' }}>
            {title}
          </Typography>
        </Box>
        {failure && (
          <Alert severity="error" variant="outlined" sx={{ mb: 2 }}>
            {problem?.title ?? failure.message}
            {problem?.hint && `: ${problem.hint}`}
          </Alert>
        )}
        {children}
      </Paper>
    </Box>
  );
}
