import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { clock, exact } from '../words/time';
import { count } from '../words/words';
import { partsOf } from './rolloutWords';

/** One wave of a rollout: how its nodes divide, in a bar whose words say the same. */
export function WaveRow({ wave, of, rollout }: { wave: Schemas['RolloutWave']; of: number; rollout: Schemas['RolloutSummary'] }) {
  const parts = partsOf(wave);
  const words = parts.map(({ nodes, words }) => `${nodes} ${words}`).join(', ');
  return (
    <Box component="li" sx={{ py: 1, borderTop: 1, borderColor: 'hairline' }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, alignItems: 'baseline' }}>
        <Typography sx={{ fontWeight: 600 }}>
          Wave {wave.wave} of {of}
        </Typography>
        <Typography sx={{ color: 'text.secondary' }}>
          {wave.percent} %, {count(wave.figures.nodes, 'node')}
        </Typography>
        {wave.handed_out_at && wave.change && (
          <Typography sx={{ color: 'text.secondary' }} title={exact(wave.handed_out_at)}>
            handed out {clock(wave.handed_out_at)} by{' '}
            <Link component={RouterLink} to={changeAddress(wave.change)}>
              C{wave.change}
            </Link>
          </Typography>
        )}
        <Typography sx={{ color: 'text.secondary' }}>{settleWords(wave, rollout)}</Typography>
      </Box>
      <Box role="img" aria-label={words || 'no node'} sx={{ display: 'flex', height: 12, bgcolor: 'sunken', my: 0.75 }}>
        {parts.map(({ nodes, words, colour }) => (
          <Box key={words} sx={{ flexGrow: nodes, flexBasis: 0, minWidth: 3, bgcolor: colour }} />
        ))}
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 3, rowGap: 0.5 }}>
        {parts.map(({ nodes, words, colour }) => (
          <Box component="span" key={words} sx={{ display: 'inline-flex', gap: 0.75, alignItems: 'center' }}>
            <Box aria-hidden component="span" sx={{ width: 10, height: 10, bgcolor: colour }} />
            <span>
              <b>{nodes}</b> {words}
            </span>
          </Box>
        ))}
      </Box>
    </Box>
  );
}

/** What the last wave that was handed out waits for. */
function settleWords({ wave, handed_out_at, settles_until, figures }: Schemas['RolloutWave'], rollout: Schemas['RolloutSummary']): string {
  if (!handed_out_at || wave !== rollout.reached || rollout.status !== 'going') return '';
  if (settles_until) return `settles until ${clock(settles_until)}`;
  return `settles once 90 % of its ${count(figures.nodes - figures.silent, 'heard node')} have finished a full run`;
}
