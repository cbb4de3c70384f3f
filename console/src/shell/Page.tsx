import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { type ReactNode, useEffect } from 'react';
import { Unseen } from '../looks/Unseen';

/** A page with its heading, which is also the title of the window. Above another `heading` it is not seen; `hasOwnHeading`: it is in the page. */
export function Page({
  title,
  heading,
  hasOwnHeading = false,
  children,
}: {
  title: string;
  heading?: ReactNode;
  hasOwnHeading?: boolean;
  children: ReactNode;
}) {
  useEffect(() => {
    document.title = `${title} · Constans`;
  }, [title]);
  return (
    <Box component="main" id="main" tabIndex={-1} sx={{ maxWidth: 1360, mx: 'auto', px: { xs: 2, md: 5 }, py: 2.5, outline: 'none' }}>
      {heading === undefined && !hasOwnHeading && (
        <Typography variant="h1" sx={{ mb: 2 }}>
          {title}
        </Typography>
      )}
      {heading !== undefined && <Unseen component="h1">{title}</Unseen>}
      {heading}
      {children}
    </Box>
  );
}
