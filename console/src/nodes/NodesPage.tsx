import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { count } from '../words/words';
import { FilterField } from './FilterField';
import { asArgument, useFilter } from './filter';
import { NodeGrid } from './NodeGrid';

/** All nodes in a table, or those that match the filter in the address. */
export function NodesPage() {
  const [filter, setFilter] = useFilter();
  const nodes = useQuery({ queryKey: ['nodes', filter], queryFn: ({ signal }) => api.nodes(filter, signal), placeholderData: keepPreviousData });
  return (
    <Page title="Nodes" heading={null}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <FilterField filter={filter} onFilter={setFilter} error={nodes.error} />
        <Typography role="status" sx={{ color: 'text.secondary', pt: 0.75, whiteSpace: 'nowrap' }}>
          {nodes.data ? shownWords(nodes.data) : 'loading'}
        </Typography>
        <CopiedCommand command={`constans node list${asArgument(filter)}`} />
      </Box>
      <QueryView query={nodes}>{(page) => <NodeGrid nodes={page.nodes} isFiltered={filter !== ''} />}</QueryView>
    </Page>
  );
}

function shownWords(page: Schemas['NodePage']): string {
  const shown = count(page.nodes.length, 'node') + (page.next ? ', and more' : '');
  return page.undecidable ? `${shown}; ${page.undecidable} cannot be evaluated` : shown;
}
