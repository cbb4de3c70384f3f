import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { Page } from './Page';

/** Shown for an unknown address. */
export function NotFoundPage() {
  return (
    <Page title="Page not found">
      <Typography>
        No page has this address.{' '}
        <Link component={RouterLink} to="/">
          Open the overview
        </Link>
        .
      </Typography>
    </Page>
  );
}
