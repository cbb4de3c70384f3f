import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { asArgument, useFilter, useSort } from '../lists/filter';
import { ListTools } from '../lists/ListTools';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { useKept } from '../shell/useKept';
import { RunNowButton } from '../sweeps/RunNowButton';
import { count } from '../words/words';
import { NodeFilter } from './NodeFilter';
import { NodeGrid } from './NodeGrid';
import { allNodes, COLUMNS, HIDDEN_FIRST } from './nodeColumns';
import { SelectedNodes } from './SelectedNodes';

/** The server sends a page at a time: the grid shows at most 100 rows. */
const PAGE = 100;

/** All nodes in a table, or those that match the filter in the address, sorted and paged by the server. */
export function NodesPage() {
  const [filter, setFilter] = useFilter();
  const [sort, setSort] = useSort();
  // Where each page begins that was reached in this list; another filter or order is another list.
  const list = `${filter}\n${sort}`;
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [hidden, setHidden] = useKept<string[]>('nodes-hidden-columns', HIDDEN_FIRST, localStorage);
  const [reached, setReached] = useState({ list, page: 0, begins: [''] });
  const { page, begins } = reached.list === list ? reached : { page: 0, begins: [''] };
  const query = { size: PAGE, count: true, ...(filter && { filter }), ...(sort && { sort }), ...(begins[page] && { after: begins[page] }) };
  const nodes = useQuery({ queryKey: ['nodes', query], queryFn: ({ signal }) => api.nodes(query, signal), placeholderData: keepPreviousData });
  const goTo = (to: number) => {
    const next = nodes.data?.next;
    const known = to > page && next ? [...begins.slice(0, page + 1), next] : begins;
    if (to < known.length) setReached({ list, page: to, begins: known });
  };
  return (
    <Page title="Nodes" heading={null}>
      <Box sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <NodeFilter filter={filter} onFilter={setFilter} error={nodes.error} />
        <Typography role="status" sx={{ color: 'text.secondary', pt: 0.75, whiteSpace: 'nowrap' }}>
          {nodes.data ? shownWords(nodes.data) : 'loading'}
        </Typography>
        <ListTools name="nodes" columns={COLUMNS} hidden={hidden} onHidden={setHidden} all={() => allNodes(filter, sort)} />
        {selected.size === 0 && <RunNowButton filter={filter} where={filter || 'all nodes'} />}
        <CopiedCommand command={`constans node list${asArgument(filter)}`} />
      </Box>
      {selected.size > 0 && <SelectedNodes names={[...selected].sort()} onNone={() => setSelected(new Set())} />}
      <QueryView query={nodes}>
        {({ nodes, total }) => (
          <NodeGrid
            nodes={nodes}
            total={total ?? 0}
            isFiltered={filter !== ''}
            sort={sort}
            onSort={setSort}
            page={page}
            onPage={goTo}
            pageSize={PAGE}
            hidden={hidden}
            selected={selected}
            onSelected={setSelected}
          />
        )}
      </QueryView>
    </Page>
  );
}

function shownWords(page: Schemas['NodePage']): string {
  const shown = count(page.total ?? 0, 'node');
  return page.undecidable ? `${shown}; ${page.undecidable} cannot be evaluated` : shown;
}
