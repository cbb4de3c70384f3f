import Link from '@mui/material/Link';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useNavigate } from 'react-router';
import { api } from '../api/client';
import { LeadingFigures } from '../compliance/LeadingFigures';
import { RateChart } from '../compliance/RateChart';
import { Card } from '../looks/Card';
import { QueryView } from '../shell/QueryView';

const DAYS = 30;

/** The compliance of the nodes that a filter selects, and its rate on each of 30 days; a click on a day asks why it moved on it. */
export function ComplianceCard({ filter }: { filter: string }) {
  const navigate = useNavigate();
  const asked = filter || undefined;
  const refreshed = { placeholderData: keepPreviousData, meta: { isRefreshedByTimeOnly: true } };
  const compliance = useQuery({
    queryKey: ['compliance', filter, 'severity', ''],
    queryFn: ({ signal }) => api.compliance({ by: 'severity', filter: asked }, signal),
    ...refreshed,
  });
  const days = useQuery({
    queryKey: ['compliance days', filter],
    queryFn: ({ signal }) => api.complianceDays({ days: DAYS, filter: asked }, signal),
    refetchInterval: 300_000,
    ...refreshed,
  });
  const address = `/compliance${filter ? `?filter=${encodeURIComponent(filter)}` : ''}`;
  const chosen = (from: string) => void navigate(`${address}${filter ? '&' : '?'}since=${from}`);
  return (
    <Card
      title="Compliance"
      aside={
        <Link component={RouterLink} to={address}>
          By control and more
        </Link>
      }
    >
      <QueryView query={compliance}>{(compliance) => <LeadingFigures compliance={compliance} />}</QueryView>
      <QueryView query={days}>{(days) => <RateChart days={days} namesChanges={false} onDay={({ from }) => chosen(from)} />}</QueryView>
    </Card>
  );
}
