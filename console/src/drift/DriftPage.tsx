import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { dimensionsOf } from '../compliance/dimensions';
import { asArgument, useFilter } from '../lists/filter';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { NodeFilter } from '../nodes/NodeFilter';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { RunNowButton } from '../sweeps/RunNowButton';
import { span } from '../words/time';
import { count } from '../words/words';
import { AcceptDialog } from './AcceptDialog';
import { DriftTable } from './DriftTable';
import { EpisodeTable } from './EpisodeTable';
import { FoundAcross } from './FoundAcross';

const DIMENSIONS = ['clause', 'baseline', 'control', 'severity', 'node'];
const PERIODS = [1, 7, 30, 90];
/** This many episodes are shown; a filter or a clause narrows them. */
/** Drift over the fleet in the last days: how much, how it ended, how long it took, and where. */
export function DriftPage() {
  const [filter, setFilter] = useFilter();
  const [parameters, set] = useParameters();
  const by = parameters.get('by') ?? 'clause';
  const clause = parameters.get('clause') ?? undefined;
  const accepted = parameters.get('accept');
  const days = Number(parameters.get('days') ?? 30);
  const asked = () => ({ filter: filter || undefined, since: daysAgo(days) });
  const labels = useQuery({ queryKey: ['labels'], queryFn: ({ signal }) => api.labels(signal), staleTime: 300_000 });
  const drift = useQuery({
    queryKey: ['drift', filter, by, days],
    queryFn: ({ signal }) => api.drift({ by, ...asked() }, signal),
    placeholderData: keepPreviousData,
    meta: { isRefreshedByTimeOnly: true },
  });
  const episodes = useList('episode', (query, signal) => lists.driftEpisodes({ ...asked(), clause })(query, signal), {
    key: ['drift episodes', filter, days, clause],
    meta: { isRefreshedByTimeOnly: true },
  });
  const found = useQuery({
    queryKey: ['drift found', filter, clause],
    queryFn: ({ signal }) => api.driftFound({ clause: clause ?? '', filter: filter || undefined }, signal),
    enabled: clause !== undefined,
    meta: { isRefreshedByTimeOnly: true },
  });
  const ofClause = clause ? ` --clause '${clause}'` : '';
  return (
    <Page title="Drift" heading={null}>
      <Box sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <NodeFilter filter={filter} onFilter={setFilter} error={drift.error} />
        <ToggleButtonGroup exclusive size="small" value={days} onChange={(_, days: number | null) => days && set({ days: String(days) })} aria-label="Period">
          {PERIODS.map((period) => (
            <ToggleButton key={period} value={period} sx={{ textTransform: 'none', py: 0.5, whiteSpace: 'nowrap' }}>
              {count(period, 'day')}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
        <RunNowButton filter={filter} where={filter || 'all nodes'} />
        <CopiedCommand command={`constans drift figures --by ${by}${asArgument(filter)} --since ${daysAgo(days)}`} />
      </Box>
      <QueryView query={drift}>
        {(drift) => (
          <>
            <Card>
              <LeadingFigures figures={drift.all} />
              <RecurringList recurring={drift.recurring} />
            </Card>
            <Box sx={{ mt: 2 }}>
              <Card>
                <ToggleButtonGroup
                  exclusive
                  size="small"
                  value={by}
                  onChange={(_, by: string | null) => by && set({ by })}
                  aria-label="Count by"
                  sx={{ mb: 1 }}
                >
                  {dimensionsOf(DIMENSIONS, labels.data ?? {}, by).map((dimension) => (
                    <ToggleButton key={dimension} value={dimension} sx={{ textTransform: 'none', py: 0.25 }}>
                      {dimension}
                    </ToggleButton>
                  ))}
                </ToggleButtonGroup>
                <DriftTable by={by} rows={drift.rows} hasMoreRows={drift.has_more_rows} onClause={(clause) => set({ clause })} />
              </Card>
            </Box>
          </>
        )}
      </QueryView>
      {clause && accepted && <AcceptDialog node={accepted} clause={clause} onClose={() => set({ accept: null })} />}
      {clause && (
        <Box sx={{ mt: 2 }}>
          <Card title="Side by side: what is found now" aside={<CopiedCommand command={`constans drift found '${clause}'${asArgument(filter)}`} />}>
            <QueryView query={found}>{(found) => <FoundAcross clause={clause} found={found} />}</QueryView>
          </Card>
        </Box>
      )}
      <Box sx={{ mt: 2 }}>
        <Card
          title={clause ? 'Episodes of one clause across all nodes' : 'Episodes'}
          aside={<CopiedCommand command={`constans drift list${asArgument(filter)}${ofClause} --since ${daysAgo(days)}`} />}
        >
          {clause && (
            <Typography sx={{ mb: 1 }}>
              <Address>{clause}</Address>{' '}
              <Link component="button" onClick={() => set({ clause: null })} sx={{ verticalAlign: 'baseline' }}>
                all clauses
              </Link>{' '}
              <RunNowButton filter={filter} where={filter || 'all nodes'} part={{ clauses: [clause] }} correctOnce variant="text" label={clause} />
            </Typography>
          )}
          <EpisodeTable list={episodes} />
        </Card>
      </Box>
    </Page>
  );
}

/** The beginning of the minute so many days ago, in UTC. */
function daysAgo(days: number): string {
  return `${new Date(Date.now() - days * 86_400_000).toISOString().slice(0, 16)}:00Z`;
}

function LeadingFigures({ figures }: { figures: Schemas['DriftFigures'] }) {
  return (
    <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 6, rowGap: 1 }}>
      <Typography>
        <Box component="span" sx={{ fontSize: 28, fontWeight: 600, color: figures.open > 0 ? 'status.drift_found' : 'text.primary' }}>
          {figures.open.toLocaleString('en')}
        </Box>{' '}
        open, {figures.only_reported} of these only reported
      </Typography>
      <Box>
        <Typography>
          {count(figures.episodes, 'episode')} on {count(figures.nodes, 'node')}, {figures.detected} detected in the period
        </Typography>
        <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
          ended: {figures.corrected} corrected · {figures.by_hand} undone by hand · {figures.by_rollout} replaced by a rollout · {figures.no_longer} no longer
          desired
          {figures.drills > 0 && ` · ${count(figures.drills, 'episode')} of drills, in no other figure`}
        </Typography>
      </Box>
      <Box>
        <Spans what="detected within 0 to" durations={figures.detected_within} />
        <Spans what="corrected after" durations={figures.corrected_after} />
      </Box>
    </Box>
  );
}

function Spans({ what, durations: { median_secs, p95_secs, mean_secs } }: { what: string; durations: Schemas['Durations'] }) {
  if (median_secs == null || p95_secs == null || mean_secs == null) return null;
  return (
    <Typography sx={{ fontSize: 14 }}>
      {what} <b>{span(median_secs)}</b> (half), {span(p95_secs)} (95 %), mean {span(mean_secs)}
    </Typography>
  );
}

function RecurringList({ recurring }: { recurring: Schemas['Recurring'][] }) {
  return recurring.map(({ node, address, times }) => (
    <Typography key={node + address} sx={{ mt: 0.5, fontSize: 14 }}>
      Recurring within the last day:{' '}
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}?clause=${encodeURIComponent(address)}`}>
        {node}
      </Link>{' '}
      <Address>{address}</Address>, corrected {times} times
    </Typography>
  ));
}
