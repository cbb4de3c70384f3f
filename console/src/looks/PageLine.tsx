import Alert from '@mui/material/Alert';
import type { ReactNode } from 'react';

/** What holds for all of a page, in a line above it. */
export function PageLine({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Alert
      severity="info"
      variant="standard"
      role="status"
      aria-label={label}
      sx={{ border: 0, borderBottom: '1px solid', borderColor: 'divider', borderRadius: 0, py: 0, px: { xs: 1, md: 3 }, '& .MuiAlert-message': { py: 0.75 } }}
    >
      {children}
    </Alert>
  );
}
