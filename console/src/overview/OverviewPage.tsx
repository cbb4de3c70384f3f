import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { asArgument, useFilter } from '../lists/filter';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { NodeFilter } from '../nodes/NodeFilter';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { RunNowButton } from '../sweeps/RunNowButton';
import { exact } from '../words/time';
import { count } from '../words/words';
import { AttentionList } from './AttentionList';
import { RecentActivityList } from './RecentActivityList';
import { Ribbon } from './Ribbon';
import { RunHours } from './RunHours';
import { StageList } from './StageList';
import { StatusLegend } from './StatusLegend';

// The charts are fetched after the page is there.
const ComplianceCard = lazy(() => import('./ComplianceCard').then((card) => ({ default: card.ComplianceCard })));

/** The fleet at a glance: what is wrong, since when, and where. */
export function OverviewPage() {
  const [filter, setFilter] = useFilter();
  const fleet = useQuery({ queryKey: ['overview', filter], queryFn: ({ signal }) => api.overview(filter, signal), placeholderData: keepPreviousData });
  return (
    <Page title="Overview" heading={null}>
      <Box sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <NodeFilter filter={filter} onFilter={setFilter} error={fleet.error} />
        <Typography sx={{ color: 'text.secondary', pt: 0.75, whiteSpace: 'nowrap' }}>{fleet.data ? shownWords(fleet.data) : 'loading'}</Typography>
        <RunNowButton filter={filter} where={filter || 'all nodes'} />
        <CopiedCommand command={`constans node list${asArgument(filter)}`} />
      </Box>
      <QueryView query={fleet}>{(fleet) => <OverviewParts fleet={fleet} filter={filter} />}</QueryView>
    </Page>
  );
}

function shownWords(fleet: Schemas['Overview']): string {
  const shown = fleet.shown === fleet.total ? count(fleet.total, 'node') : `${fleet.shown} of ${count(fleet.total, 'node')}`;
  return fleet.undecidable ? `${shown}, ${fleet.undecidable} cannot be evaluated` : shown;
}

function OverviewParts({ fleet, filter }: { fleet: Schemas['Overview']; filter: string }) {
  const problems = fleet.server_problems.map((problem) => (
    <Alert key={problem} severity="error" variant="outlined" sx={{ mb: 2 }}>
      This server: {problem}
    </Alert>
  ));
  if (fleet.total === 0) {
    return (
      <>
        {problems}
        <NoNodes joining={fleet.joining} />
      </>
    );
  }
  return (
    <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 13fr) minmax(0, 7fr)' }, alignItems: 'start' }}>
      {fleet.server_problems.length > 0 && <Box sx={{ gridColumn: '1 / -1', mb: -2 }}>{problems}</Box>}
      <Box sx={{ gridColumn: '1 / -1' }}>
        <Card>
          <Ribbon ticks={fleet.ticks} statuses={fleet.statuses} filter={filter} />
          <StatusLegend statuses={fleet.statuses} filter={filter} />
        </Card>
      </Box>
      <Card title="Needs attention">
        {fleet.recovering_since && (
          <Typography sx={{ mb: 1 }}>
            The server has been recovering since {exact(fleet.recovering_since)}: its database was restored to an earlier state. Nodes receive no new desired
            state until the recovery ends. <Address>constans recovery show</Address>
          </Typography>
        )}
        <AttentionList attention={fleet.attention} now={Date.parse(fleet.now)} />
      </Card>
      <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
        <Suspense fallback={null}>
          <ComplianceCard filter={filter} />
        </Suspense>
        {!filter && (
          <Card title="Runs an hour">
            <RunHours />
          </Card>
        )}
        <Card title="Recent activity" aside={<Joining joining={fleet.joining} />}>
          <RecentActivityList events={fleet.recent_activity} now={Date.parse(fleet.now)} />
        </Card>
        <Card title="Served">
          <StageList stages={fleet.stages} />
        </Card>
      </Box>
    </Box>
  );
}

function Joining({ joining }: { joining: number }) {
  if (joining === 0) return null;
  return (
    <Typography sx={{ fontSize: 14 }}>
      <Link component={RouterLink} to="/joining">
        {count(joining, 'joining request')}
      </Link>{' '}
      {joining === 1 ? 'waits' : 'wait'} for approval: <Address>constans join list</Address>
    </Typography>
  );
}

function NoNodes({ joining }: { joining: number }) {
  return (
    <Card title="No nodes yet">
      <Typography sx={{ mb: 1 }}>Create an invitation, use it on a machine, and approve its joining request:</Typography>
      <Box component="pre" sx={{ m: 0, p: 1.5, bgcolor: 'sunken', overflow: 'auto' }}>
        {
          'constans invite --for 24h --label site=auken > invitation\nconstans-agent join --invitation-file invitation      # on the machine\nconstans join list\nconstans join approve NAME'
        }
      </Box>
      {joining > 0 && (
        <Typography sx={{ mt: 1 }}>
          <Link component={RouterLink} to="/joining">
            {count(joining, 'joining request')}
          </Link>{' '}
          {joining === 1 ? 'waits' : 'wait'} for approval.
        </Typography>
      )}
      <Typography sx={{ mt: 1 }}>
        <Link component={RouterLink} to="/nodes">
          All nodes
        </Link>
      </Typography>
    </Card>
  );
}
