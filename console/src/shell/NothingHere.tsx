import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { Page } from './Page';

/** An address that leads nowhere. */
export function NothingHere() {
  return (
    <Page title="Nothing is here">
      <Typography>
        No page has this address. <Link component={RouterLink} to="/">Go to the fleet</Link>.
      </Typography>
    </Page>
  );
}
