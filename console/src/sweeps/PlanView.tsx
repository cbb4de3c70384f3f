import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { write } from '../words/sentence';
import { clock } from '../words/time';
import { useNow } from '../words/useNow';
import { count } from '../words/words';
import { leftWords } from './sweepWords';

/** So many nodes are told. */
const TOLD = 12;

/** What a sweep would do, by what the last runs found. */
export function PlanView({ plan }: { plan?: Schemas['SweepPlan'] }) {
  const now = useNow();
  if (!plan) return <Typography role="status">looking at what is known…</Typography>;
  const later = plan.asked - plan.can_be_woken;
  const when =
    later === 0 ? 'at once' : later === plan.asked ? 'with their next check-ins' : `${plan.can_be_woken} at once, ${later} with their next check-ins`;
  const left = Object.entries(plan.left_on).map(([why, nodes]) => `something is left on ${count(nodes, 'node')}: ${leftWords(why)}`);
  const told = plan.each.filter(isTold);
  return (
    <Box aria-live="polite" sx={{ bgcolor: 'sunken', p: 1.5, borderRadius: 1 }}>
      <Typography>
        {plan.asked === 0 ? `None of ${count(plan.nodes, 'node')} would do anything of it.` : `${plan.asked} of ${count(plan.nodes, 'node')} begin it, ${when}`}
        {plan.asked > 0 && (plan.silent > 0 ? `; ${plan.silent} are silent.` : '.')}
        {plan.correct > 0 && ` By what is known, ${count(plan.correct, 'clause')} would be corrected on ${count(plan.correct_on, 'node')}.`}
        {left.map((words) => ` ${words.charAt(0).toUpperCase()}${words.slice(1)}.`)}
        {plan.opens && ` The last window opens at ${clock(plan.opens)}.`}
      </Typography>
      <Box component="ul" sx={{ listStyle: 'none', p: 0, m: 0, mt: 0.5, fontSize: 14 }}>
        {told.slice(0, TOLD).map((node) => (
          <Box component="li" key={node.name} sx={{ display: 'flex', justifyContent: 'space-between', gap: 2, py: 0.25 }}>
            <span>{node.name}</span>
            <Box component="span" sx={{ color: node.refused ? 'warning.main' : 'text.secondary', textAlign: 'right' }}>
              {plannedWords(node, now)}
            </Box>
          </Box>
        ))}
      </Box>
      {told.length > TOLD && <Typography sx={{ fontSize: 14 }}>and {told.length - TOLD} more</Typography>}
    </Box>
  );
}

function isTold({ refused, opens, preview }: Schemas['PlannedNode']): boolean {
  if (refused || opens || !preview) return true;
  return preview.correct + preview.blocked > 0 || Object.keys(preview.leave ?? {}).length > 0;
}

function plannedWords({ refused, mode_from, preview, opens, as_of }: Schemas['PlannedNode'], now: number): string {
  if (refused) return `left out: ${write(refused, now)}${mode_from ? ` (${mode_from})` : ''}`;
  if (!preview) return 'not known: it has not run yet, or its last run is not kept';
  const parts = [
    ...(preview.correct > 0 ? [`${count(preview.correct, 'clause')} would be corrected`] : []),
    ...(preview.blocked > 0 ? [`${preview.blocked} blocked`] : []),
    ...Object.entries(preview.leave ?? {}).map(([why, clauses]) => `${clauses} left: ${leftWords(why)}`),
    ...(opens ? [`its change window opens at ${clock(opens)}`] : []),
  ];
  return parts.join(', ') + (as_of ? `, as of ${clock(as_of)}` : '');
}
