import Link from '@mui/material/Link';
import { Link as RouterLink } from 'react-router';
import type { Column } from './RecordTable';

/** The name of a node, which leads to its page. */
export const NODE_COLUMN: Column<{ name: string }> = {
  field: 'name',
  head: 'Node',
  text: ({ name }) => name,
  cell: ({ name }) => (
    <Link component={RouterLink} to={`/nodes/${encodeURIComponent(name)}`} color="inherit">
      {name}
    </Link>
  ),
};
