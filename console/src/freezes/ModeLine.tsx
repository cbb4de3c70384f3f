import Link from '@mui/material/Link';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useLocation } from 'react-router';
import { api, type Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { PageLine } from '../looks/PageLine';
import { exact } from '../words/time';
import { count } from '../words/words';

type Temporary = Schemas['TemporarySetting'];

/** What these pages show is of no nodes. */
const OF_NO_NODES = ['joining', 'kits', 'kinds', 'server', 'changes', 'freezes'];
/** So many are told in words. */
const TOLD = 3;

/** Says on every page of nodes that it touches which modes hold for a time: by whom, why, until when. */
export function ModeLine() {
  const { pathname } = useLocation();
  const [, page = '', of] = pathname.split('/');
  const name = of && decodeURIComponent(of);
  const node = page === 'nodes' ? name : undefined;
  const temporary = useQuery({ queryKey: ['temporary settings'], queryFn: ({ signal }) => api.temporarySettings(signal) });
  const modes = (temporary.data ?? []).filter(({ word }) => word === 'mode');
  const isAsked = node !== undefined && modes.some(({ group }) => group);
  const shown = useQuery({ queryKey: ['node', node], queryFn: ({ signal }) => api.node(node ?? '', signal), enabled: isAsked });
  const touches = (one: Temporary) => {
    if (node) return one.node === node || (shown.data?.groups ?? []).includes(one.group ?? '');
    if (page === 'groups' && name) return one.group === name;
    return !OF_NO_NODES.includes(page);
  };
  const told = modes.filter(touches);
  if (told.length === 0) return null;
  return (
    <PageLine label="Modes for a time">
      {told.slice(0, TOLD).map((one) => (
        <div key={`${one.group ?? ''} ${one.node ?? ''}`}>
          Mode {one.value} until {exact(one.until)} {whereWords(one)}
          {one.change && (
            <>
              : “{one.change.because}”, {one.change.who},{' '}
              <Link component={RouterLink} to={changeAddress(one.change.no)} underline="always">
                C{one.change.no}
              </Link>
            </>
          )}
        </div>
      ))}
      {told.length > TOLD && `and ${told.length - TOLD} more`}
    </PageLine>
  );
}

function whereWords({ group, node, nodes }: Temporary): string {
  return group ? `for the group ${group}, ${count(nodes, 'node')}` : `for ${node ?? ''} alone`;
}
