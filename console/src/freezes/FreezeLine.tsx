import Link from '@mui/material/Link';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useLocation } from 'react-router';
import { api, type Schemas } from '../api/client';
import { PageLine } from '../looks/PageLine';
import { freezeSentence, frozenNodes } from './freezeWords';

/** What these pages show is of no nodes: only a freeze of all of them is told there. */
const OF_NO_NODES = ['/joining', '/kits', '/kinds', '/server'];

/** Says on every page that a freeze touches which ones are in force: what is not in line may be left on purpose. */
export function FreezeLine() {
  const { pathname } = useLocation();
  const freezes = useQuery({ queryKey: ['freezes', false], queryFn: ({ signal }) => api.freezes(false, signal) });
  const [first, ...others] = (freezes.data ?? []).filter((freeze) => touches(freeze, pathname));
  if (!first) return null;
  const named = [first, ...others.slice(0, 4)].map((freeze) => `F${freeze.no} of ${frozenNodes(freeze)}`);
  return (
    <PageLine label="Freezes in force">
      {others.length === 0 ? freezeSentence(first) : `${others.length + 1} freezes are in force: ${named.join('; ')}${others.length > 4 ? ' and more' : ''}`}{' '}
      <Link component={RouterLink} to="/freezes" underline="always">
        See freezes
      </Link>
    </PageLine>
  );
}

function touches({ is_for_all, nodes }: Schemas['FreezeShown'], pathname: string): boolean {
  if (is_for_all) return true;
  const [, page, name] = pathname.split('/');
  if (page === 'nodes' && name) return nodes.includes(decodeURIComponent(name));
  return !OF_NO_NODES.includes(`/${page}`);
}
