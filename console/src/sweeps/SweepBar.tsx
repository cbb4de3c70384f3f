import type { Schemas } from '../api/client';
import { SharesBar } from '../looks/SharesBar';

/** How the nodes of a sweep divide. */
export function SweepBar({ sweep: { counts } }: { sweep: Schemas['Sweep'] }) {
  const shares = [
    { nodes: counts.in_line, words: 'in line', colour: 'status.in_line' },
    { nodes: counts.done - counts.in_line - counts.failed, words: 'not in line', colour: 'status.drift_found' },
    { nodes: counts.failed, words: 'failed', colour: 'status.failed' },
    { nodes: counts.begun, words: 'running', colour: 'primary.main' },
    { nodes: counts.refused, words: 'refused', colour: 'status.unmet' },
    { nodes: counts.not_reached, words: 'not reached', colour: 'status.silent' },
    { nodes: counts.pending + counts.offered, words: 'not received yet', colour: 'hairline' },
  ];
  const done = (
    <span>
      <b>{counts.done}</b> of {counts.nodes} done
    </span>
  );
  return <SharesBar shares={shares} height={16} first={done} />;
}
