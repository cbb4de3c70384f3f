import Box from '@mui/material/Box';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { count } from '../words/words';
import { rateWords } from './rate';

/** The compliance of one release or baseline, on all nodes that have clauses of it. */
export function ComplianceOf({ by, name }: { by: 'release' | 'baseline'; name: string }) {
  const compliance = useQuery({
    queryKey: ['compliance', '', by, ''],
    queryFn: ({ signal }) => api.compliance({ by }, signal),
    meta: { isRefreshedByTimeOnly: true },
  });
  const row = compliance.data?.rows.find(({ key }) => key === name);
  if (!row) return null;
  const nodes = row.nodes.without_deviation + row.nodes.with_deviation + row.nodes.not_known + row.nodes.conceded;
  const with_concessions = row.clauses.conceded > 0 ? ` (${rateWords(row.rate_with_concessions_basis_points)} with concessions)` : '';
  return (
    <Box component="span" sx={{ color: 'text.secondary', fontSize: 14, fontWeight: 400 }}>
      {rateWords(row.rate_basis_points)} of its clauses compliant{with_concessions}; {row.nodes.without_deviation} of {count(nodes, 'node')} without deviation
    </Box>
  );
}
