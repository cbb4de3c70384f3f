import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import { NavLink } from 'react-router';

const PAGES = [
  { to: '/compliance', name: 'Figures' },
  { to: '/compliance/controls', name: 'Controls' },
  { to: '/compliance/concessions', name: 'Concessions' },
  { to: '/compliance/evidence', name: 'Evidence' },
];

/** The pages of compliance. */
export function ComplianceTabs() {
  return (
    <Box component="nav" aria-label="Compliance" sx={{ display: 'flex', gap: 2.5, mb: 2 }}>
      {PAGES.map((page) => (
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
