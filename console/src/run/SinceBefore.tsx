import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { StatusGlyph } from '../looks/StatusGlyph';
import { QueryView } from '../shell/QueryView';
import { exact } from '../words/time';
import { count, resultChange, statusWords } from '../words/words';

/** The symbol of each way in which a clause is otherwise. */
const GLYPHS: Record<Schemas['ResultChange'], Schemas['Status']> = {
  fails_now: 'failed',
  fails_again: 'failed',
  out_of_line_now: 'drift_found',
  found_otherwise: 'drift_found',
  passes_now: 'in_line',
  in_line_now: 'in_line',
  corrected_now: 'drift_corrected',
  new: 'rollout_waiting',
  gone: 'not_all_seen',
};

/** What is otherwise than in the run before: what fails now, what failed last time and passes now. */
export function SinceBefore({ node, run }: { node: string; run: string }) {
  const comparison = useQuery({ queryKey: ['run-comparison', node, run], queryFn: ({ signal }) => api.compareRun(node, run, signal), refetchInterval: false });
  return (
    <Box sx={{ mb: 2 }}>
      <Card title="Since the run before" aside={<CopiedCommand command={`constans run compare ${node} ${run}`} />}>
        <QueryView query={comparison}>{(comparison) => <Changed node={node} comparison={comparison} />}</QueryView>
      </Card>
    </Box>
  );
}

function Changed({ node, comparison }: { node: string; comparison: Schemas['RunComparison'] }) {
  const { before, changed, is_of_a_part } = comparison;
  if (!before) return <Typography>No run before it is kept.</Typography>;
  return (
    <>
      <Typography sx={{ color: 'text.secondary' }}>
        The run before began {exact(before.began)}:{' '}
        {before.run ? (
          <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${before.run}`}>
            {statusWords(before.status)}
          </Link>
        ) : (
          statusWords(before.status)
        )}
        . {changed.length === 0 ? 'No clause is otherwise.' : `${count(changed.length, 'clause is', 'clauses are')} otherwise:`}
      </Typography>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {changed.map((one) => (
          <Box component="li" key={one.address} sx={{ display: 'flex', gap: 1, py: 0.5, minWidth: 0 }}>
            <StatusGlyph status={GLYPHS[one.change]} />
            <Box sx={{ minWidth: 0 }}>
              <strong>{resultChange(one.change)}</strong> <Address>{one.address}</Address>
              {one.message && (
                <Typography sx={{ color: 'text.secondary', fontSize: 14, overflowWrap: 'anywhere' }}>
                  {one.change === 'passes_now' && 'It had said: '}
                  {one.message}
                </Typography>
              )}
            </Box>
          </Box>
        ))}
      </Box>
      {is_of_a_part && (
        <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>One of the two left clauses out; those that are new or gone are not told.</Typography>
      )}
    </>
  );
}
