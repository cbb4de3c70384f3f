import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { AsOf } from '../compliance/AsOf';
import { ComplianceTabs } from '../compliance/ComplianceTabs';
import { rateWords } from '../compliance/rate';
import { ShareBar } from '../compliance/ShareBar';
import { asArgument, listOf, namesFilter, useFilter } from '../lists/filter';
import { type WholeColumn, WholeTable } from '../lists/WholeTable';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { mono } from '../looks/theme';
import { NodeFilter } from '../nodes/NodeFilter';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { exact } from '../words/time';
import { count } from '../words/words';

/** The controls of the catalogue: on how many nodes each is satisfied, is not, or has no clause; now or as of a moment. */
export function ControlsPage() {
  const [filter, setFilter] = useFilter();
  const [parameters, set] = useParameters();
  const asOf = parameters.get('as_of') ?? '';
  const open = parameters.get('control');
  const asked = { filter: filter || undefined, as_of: asOf || undefined };
  const controls = useQuery({
    queryKey: ['controls', filter, asOf],
    queryFn: ({ signal }) => api.controls(asked, signal),
    placeholderData: keepPreviousData,
    meta: { isRefreshedByTimeOnly: true },
  });
  return (
    <Page title="Controls" heading={<ComplianceTabs />}>
      <Box sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <NodeFilter filter={filter} onFilter={setFilter} error={controls.error} />
        <AsOf asOf={asOf} onAsOf={(asOf) => set({ as_of: asOf })} />
        <CopiedCommand command={`constans control list${asArgument(filter)}${asOf && ` --as-of ${asOf}`}`} />
      </Box>
      <QueryView query={controls}>
        {(controls) => (
          <>
            <Card>
              <Catalogue controls={controls} />
              <WholeTable
                label="Controls"
                name="controls"
                columns={columnsOf(open, (id) => set({ control: id === open ? null : id }))}
                rows={controls.controls}
                keyOf={({ id }) => id}
                heading={({ is_heading, id, title }) => (is_heading ? `${id} ${title ?? ''}` : undefined)}
                below={(control) => control.id === open && <ControlText control={control} nodesInAll={controls.nodes_in_all} asked={asked} />}
              />
            </Card>
            {controls.assets && <Assets summary={controls.assets} />}
          </>
        )}
      </QueryView>
    </Page>
  );
}

function Catalogue({ controls: { version, as_of } }: { controls: Schemas['Controls'] }) {
  return (
    <Typography sx={{ color: 'text.secondary', fontSize: 14, mb: 1 }}>
      As of {exact(as_of)}.{' '}
      {version ? (
        <>
          Catalogue version {version.no}, set by {version.set_by}, {exact(version.from)}
          {version.because && `: “${version.because}”`}.
        </>
      ) : (
        <>
          No catalogue was set then; the controls are those that clauses name. To set one: <Address>constans control set FILE</Address>
        </>
      )}
    </Typography>
  );
}

type Control = Schemas['ControlFigures'];

function columnsOf(open: string | null, onOpen: (id: string) => void): WholeColumn<Control>[] {
  return [
    {
      field: 'id',
      head: 'Control',
      width: 300,
      text: ({ id }) => id,
      cell: ({ id, title }) => (
        <Link component="button" onClick={() => onOpen(id)} aria-expanded={id === open} sx={{ textAlign: 'left', verticalAlign: 'baseline' }}>
          <Box component="span" sx={{ fontFamily: mono, fontSize: 13, mr: 1 }}>
            {id}
          </Box>
          {title ?? <i>not in the catalogue</i>}
        </Link>
      ),
      order: ({ id }) => id,
    },
    { field: 'title', head: 'Title', text: ({ title }) => title ?? '', isHiddenFirst: true },
    number('in_scope', 'In scope', ({ in_scope }) => in_scope ?? undefined),
    number('satisfied', 'Satisfied', ({ nodes }) => nodes.without_deviation),
    number('not_satisfied', 'Not satisfied', ({ nodes }) => nodes.with_deviation),
    number('not_known', 'Not known', ({ nodes }) => nodes.not_known),
    number('conceded', 'Conceded', ({ nodes }) => nodes.conceded),
    {
      ...number('gaps', 'Gaps', ({ gaps }) => gaps),
      cell: ({ gaps }) => (
        <Box component="span" sx={{ fontWeight: gaps > 0 ? 600 : undefined }}>
          {gaps.toLocaleString('en')}
        </Box>
      ),
    },
    {
      field: 'clauses',
      head: 'Clauses compliant',
      width: '18%',
      text: ({ clauses }) => String(clauses.compliant),
      cell: ({ clauses }) => <ShareBar clauses={clauses} />,
      order: ({ clauses }) => clauses.compliant,
    },
    {
      field: 'rate',
      head: 'As found',
      align: 'right',
      text: ({ rate_basis_points }) => rateWords(rate_basis_points),
      order: ({ rate_basis_points }) => rate_basis_points ?? -1,
    },
  ];
}

function number(field: string, head: string, of: (control: Control) => number | undefined): WholeColumn<Control> {
  return {
    field,
    head,
    align: 'right',
    text: (control) => String(of(control) ?? ''),
    cell: (control) => of(control)?.toLocaleString('en') ?? '–',
    order: (control) => of(control) ?? -1,
  };
}

/** What a control demands, where it does not apply and why, and its gaps. */
function ControlText({ control, nodesInAll, asked }: { control: Schemas['ControlFigures']; nodesInAll: number; asked: { filter?: string; as_of?: string } }) {
  const gaps = useQuery({
    queryKey: ['control gaps', control.id, asked],
    queryFn: ({ signal }) => api.controlGaps({ control: control.id, ...asked }, signal),
    enabled: control.gaps > 0,
  });
  const outside = nodesInAll - (control.in_scope ?? nodesInAll);
  return (
    <Box sx={{ display: 'grid', gap: 0.5, py: 0.5 }}>
      {control.text && <Typography sx={{ whiteSpace: 'pre-line' }}>{control.text}</Typography>}
      {control.source && <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>From {control.source}</Typography>}
      <Typography sx={{ fontSize: 14 }}>
        {control.scope ? (
          <>
            Applies to nodes where <Address>{control.scope}</Address>: not applicable to {count(outside, 'node')}.
          </>
        ) : (
          'Applies to all nodes.'
        )}
        {control.beyond_scope > 0 && ` ${count(control.beyond_scope, 'node')} outside have clauses for it, and are counted.`}
      </Typography>
      {control.gaps > 0 && (
        <Typography sx={{ fontSize: 14 }}>
          {count(control.gaps, 'node')} without a clause for it
          {gaps.data && (
            <>
              :{' '}
              <Link component={RouterLink} to={listOf(namesFilter(gaps.data.nodes))}>
                {named(gaps.data.nodes)}
              </Link>
            </>
          )}
        </Typography>
      )}
      <Box>
        <Button component={RouterLink} to="/compliance?by=control" variant="text" size="small" sx={{ px: 0 }}>
          In the figures
        </Button>{' '}
        <CopiedCommand command={`constans control gaps ${control.id}`} />
      </Box>
    </Box>
  );
}

const NAMED = 8;

function named(nodes: string[]): string {
  return nodes.length <= NAMED ? nodes.join(', ') : `${nodes.slice(0, NAMED).join(', ')} and ${nodes.length - NAMED} more`;
}

/** How the inventory compares with the fleet, and the machines that never joined. */
function Assets({ summary }: { summary: Schemas['AssetSummary'] }) {
  const assets = useQuery({ queryKey: ['assets'], queryFn: ({ signal }) => api.assets(signal), enabled: summary.never_enrolled > 0 });
  return (
    <Box sx={{ mt: 2 }}>
      <Card title="Machines of the inventory" aside={<CopiedCommand command="constans asset list --never-enrolled" />}>
        <Typography>
          {count(summary.assets, 'machine')}, of which {summary.never_enrolled} never joined; {count(summary.not_listed, 'node is', 'nodes are')} not in it. Set
          by {summary.set_by}, {exact(summary.set)}.
        </Typography>
        {(assets.data ?? []).map(({ name, fields }) => (
          <Typography key={name} sx={{ fontSize: 14 }}>
            <Address>{name}</Address>{' '}
            {Object.entries(fields)
              .map(([column, cell]) => `${column}: ${cell}`)
              .join(', ')}
          </Typography>
        ))}
      </Card>
    </Box>
  );
}
