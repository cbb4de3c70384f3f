import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import type { Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { SharesBar } from '../looks/SharesBar';
import { clock, exact } from '../words/time';
import { count } from '../words/words';
import { sharesOf } from './rolloutWords';

/** One wave of a rollout: how its nodes divide, in a bar whose words say the same. */
export function WaveRow({ wave, of, rollout }: { wave: Schemas['RolloutWave']; of: number; rollout: Schemas['RolloutSummary'] }) {
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
      <SharesBar shares={sharesOf(wave)} height={12} />
    </Box>
  );
}

/** What the last wave that was handed out waits for. */
function settleWords({ wave, handed_out_at, settles_until, figures }: Schemas['RolloutWave'], rollout: Schemas['RolloutSummary']): string {
  if (!handed_out_at || wave !== rollout.reached || rollout.status !== 'going') return '';
  if (settles_until) return `settles until ${clock(settles_until)}`;
  return `settles once 90 % of its ${count(figures.nodes - figures.silent, 'heard node')} have finished a full run`;
}
