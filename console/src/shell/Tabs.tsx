import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import { NavLink } from 'react-router';

interface Tab {
  to: string;
  name: string;
}

/** The pages of one subject, beside each other. */
export function Tabs({ subject, pages }: { subject: string; pages: Tab[] }) {
  return (
    <Box component="nav" aria-label={subject} sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2.5, mb: 2 }}>
      {pages.map((page) => (
        <Link
          key={page.to}
          component={NavLink}
          to={page.to}
          end
          underline="none"
          sx={{
            color: 'text.secondary',
            pb: 0.25,
            borderBottom: '2px solid transparent',
            '&.active': { color: 'text.primary', fontWeight: 600, borderColor: 'primary.main' },
          }}
        >
          {page.name}
        </Link>
      ))}
    </Box>
  );
}
