import Box from '@mui/material/Box';
import { useTheme } from '@mui/material/styles';
import Typography from '@mui/material/Typography';
import { useNavigate } from 'react-router';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { clock } from '../words/time';
import { useNow } from '../words/useNow';
import { closedAs } from '../words/words';
import { type Bar, type Lane, lanes } from './lanes';

const LANE = 26;

/** Drift over time: a lane per clause, a bar per episode. The pale part is the drift window, the full part the time it was known and open. */
export function DriftLanes({ node, episodes }: { node: string; episodes: Schemas['Episode'][] }) {
  const now = useNow();
  if (episodes.length === 0) return <Typography>No drift since the node joined.</Typography>;
  const drawn = lanes(episodes, now);
  return (
    <>
      {drawn.lanes.map((lane) => (
        <LaneRow key={lane.address} node={node} lane={lane} />
      ))}
      <Box sx={{ display: 'flex', justifyContent: 'space-between', color: 'text.secondary', fontSize: 13, pl: '40%' }}>
        <span>{clock(new Date(drawn.since).toISOString())}</span>
        <span>now</span>
      </Box>
    </>
  );
}

function LaneRow({ node, lane }: { node: string; lane: Lane }) {
  return (
    <Box
      sx={{ display: 'grid', gridTemplateColumns: '40% minmax(0, 1fr)', alignItems: 'center', minHeight: LANE, borderTop: '1px solid', borderColor: 'divider' }}
    >
      <Address>{lane.address}</Address>
      {/* biome-ignore lint/a11y/useSemanticElements: a fieldset is no part of SVG */}
      <svg width="100%" height={LANE} role="group" aria-label={`Drift of ${lane.address}`}>
        {lane.bars.map((bar) => (
          <EpisodeBar key={`${bar.episode.detected_run}${bar.episode.detected_at}`} node={node} bar={bar} />
        ))}
      </svg>
    </Box>
  );
}

function EpisodeBar({ node, bar: { episode, from, detected, to } }: { node: string; bar: Bar }) {
  const colours = useTheme().vars?.palette.status;
  const navigate = useNavigate();
  const colour = colours?.[episode.closed_at ? 'drift_corrected' : 'drift_found'];
  const ended = episode.closed_at ? `${episode.closed_as ? closedAs(episode.closed_as) : 'ended'}, ${clock(episode.closed_at)}` : 'open';
  const [since, until] = [clock(episode.in_line_until), clock(episode.detected_at)];
  const what = episode.drill ? `broken in the drill D${episode.drill}` : 'changed';
  const name = `${what} ${since === until ? `at ${until}` : `between ${since} and ${until}`}, ${ended}`;
  const open = () => void navigate(`/nodes/${encodeURIComponent(node)}/runs/${episode.detected_run}?clause=${encodeURIComponent(episode.address)}`);
  const percent = (part: number) => `${(part * 100).toFixed(2)}%`;
  return (
    // biome-ignore lint/a11y/useSemanticElements: an anchor in SVG is not followed by the router
    <g
      role="link"
      tabIndex={0}
      aria-label={name}
      onClick={open}
      onKeyDown={(event) => {
        if (event.key === 'Enter') open();
      }}
    >
      <title>{name}</title>
      <rect x={percent(from)} width={percent(Math.max(0.002, detected - from))} y={8} height={10} fill={colour} opacity={0.35} />
      <rect x={percent(detected)} width={percent(Math.max(0.006, to - detected))} y={6} height={14} rx={1} fill={colour} />
    </g>
  );
}
