import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Chip from '@mui/material/Chip';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { asArgument, useFilter } from '../lists/filter';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { NodeFilter } from '../nodes/NodeFilter';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { RunNowButton } from '../sweeps/RunNowButton';
import { AsOf } from './AsOf';
import { ComplianceTable } from './ComplianceTable';
import { ComplianceTabs } from './ComplianceTabs';
import { dimensionsOf } from './dimensions';
import { LeadingFigures } from './LeadingFigures';
import { controlOf, onlyArgument, onlyWords } from './only';
import { RateChart } from './RateChart';
import { Legend } from './ShareBar';
import { WhyItMoved } from './WhyItMoved';

const DIMENSIONS = ['control', 'baseline', 'release', 'severity', 'cause', 'group', 'assignment', 'stage', 'node', 'clause'];
const DAYS = 30;

/** How many clauses and nodes are as desired, now or as of a moment; how that was on each of 30 days, and why it moved. */
export function CompliancePage() {
  const [filter, setFilter] = useFilter();
  const [parameters, set] = useParameters();
  const by = parameters.get('by') ?? 'control';
  const asOf = parameters.get('as_of') ?? '';
  const only = parameters.get('only') ?? '';
  const days = useQuery({
    queryKey: ['compliance days', filter, only],
    queryFn: ({ signal }) => api.complianceDays({ days: DAYS, filter: filter || undefined, only: only || undefined }, signal),
    placeholderData: keepPreviousData,
    meta: { isRefreshedByTimeOnly: true },
    refetchInterval: 300_000,
  });
  const since = parameters.get('since') ?? yesterdayBefore(asOf);
  const chooseDay = ({ from, at, is_over }: Schemas['ComplianceDay']) => set({ since: seconds(from), as_of: is_over ? seconds(at) : '' });
  const labels = useQuery({ queryKey: ['labels'], queryFn: ({ signal }) => api.labels(signal), staleTime: 300_000 });
  const compliance = useQuery({
    queryKey: ['compliance', filter, by, asOf, only],
    queryFn: ({ signal }) => api.compliance({ by, filter: filter || undefined, only: only || undefined, as_of: asOf || undefined }, signal),
    placeholderData: keepPreviousData,
    meta: { isRefreshedByTimeOnly: true },
    // The past alters only if a report comes late.
    refetchInterval: asOf ? false : undefined,
  });
  const examinations = useQuery({
    queryKey: ['examinations', filter, asOf],
    queryFn: ({ signal }) => api.examinations({ filter: filter || undefined, as_of: asOf || undefined }, signal),
    placeholderData: keepPreviousData,
    meta: { isRefreshedByTimeOnly: true },
    refetchInterval: asOf ? false : undefined,
  });
  return (
    <Page title="Compliance" heading={<ComplianceTabs />}>
      <Box sx={{ display: 'flex', flexWrap: { xs: 'wrap', md: 'nowrap' }, gap: 2, alignItems: 'flex-start', mb: 2 }}>
        <NodeFilter filter={filter} onFilter={setFilter} error={compliance.error} />
        <AsOf asOf={asOf} onAsOf={(asOf) => set({ as_of: asOf, since: '' })} />
        <Button
          component={RouterLink}
          to={`/compliance/evidence?${new URLSearchParams({ make: 'yes', filter, as_of: asOf, control: controlOf(only) })}`}
          sx={{ whiteSpace: 'nowrap' }}
        >
          Prove it…
        </Button>
        <RunNowButton filter={filter} where={filter || 'all nodes'} />
        <CopiedCommand command={`constans compliance --by ${by}${asArgument(filter)}${onlyArgument(only)}${asOf && ` --as-of ${asOf}`}`} />
      </Box>
      <QueryView query={compliance}>
        {(compliance) => (
          <>
            <Box sx={{ display: 'grid', gridTemplateColumns: { xs: '1fr', md: 'minmax(0, 1.3fr) minmax(0, 1fr)' }, gap: 2 }}>
              <Card>
                {only && (
                  <Chip label={`Only clauses of ${onlyWords(only)}`} onDelete={() => set({ only: null })} size="small" variant="outlined" sx={{ mb: 1 }} />
                )}
                <LeadingFigures compliance={compliance} examinations={examinations.data} isOfSome={only !== ''} />
                <Box sx={{ mt: 1 }}>
                  <QueryView query={days}>
                    {(days) => <RateChart days={days} chosen={days.days.find(({ from }) => seconds(from) === since)?.day} onDay={chooseDay} />}
                  </QueryView>
                </Box>
              </Card>
              <Card>
                <WhyItMoved filter={filter} only={only} since={since} asOf={asOf} />
              </Card>
            </Box>
            <Box sx={{ mt: 2 }}>
              <Card>
                <Box sx={{ display: 'flex', gap: 2, justifyContent: 'space-between', alignItems: 'center', flexWrap: 'wrap', mb: 1 }}>
                  <ToggleButtonGroup exclusive size="small" value={by} onChange={(_, by: string | null) => by && set({ by })} aria-label="Count by">
                    {dimensionsOf(DIMENSIONS, labels.data ?? {}, by).map((dimension) => (
                      <ToggleButton key={dimension} value={dimension} sx={{ textTransform: 'none', py: 0.25 }}>
                        {dimension}
                      </ToggleButton>
                    ))}
                  </ToggleButtonGroup>
                  <Legend />
                </Box>
                <ComplianceTable by={by} rows={compliance.rows} hasMoreRows={compliance.has_more_rows} onOnly={(only) => set({ only })} />
              </Card>
            </Box>
          </>
        )}
      </QueryView>
    </Page>
  );
}

/** A moment as it is in addresses. */
function seconds(at: string): string {
  return `${new Date(at).toISOString().slice(0, 19)}Z`;
}

/** The beginning of the day before a moment, in UTC. */
function yesterdayBefore(asOf: string): string {
  const at = asOf ? new Date(asOf) : new Date();
  return `${new Date(at.getTime() - 86_400_000).toISOString().slice(0, 10)}T00:00:00Z`;
}
