import type { Schemas } from '../api/client';

/** A run, and how many in a row before it came out the same. */
export interface AlikeRuns {
  run: Schemas['RunSummary'];
  times: number;
  since: string;
}

/** What such runs say again and again is the same: it still is so. */
const STILL: Schemas['Status'][] = ['failed', 'drift_found', 'unmet', 'rollout_waiting', 'not_all_seen'];

/** Returns runs, the newest first, with those in a row as one that found the same state in the same status. */
export function alike(runs: Schemas['RunSummary'][]): AlikeRuns[] {
  const rows: AlikeRuns[] = [];
  for (const run of runs) {
    const last = rows.at(-1);
    const isSame = last?.run.run && run.run && last.run.status === run.status && last.run.state === run.state && last.run.mode === run.mode;
    if (last && isSame && STILL.includes(run.status)) {
      last.times += 1;
      last.since = run.began;
    } else {
      rows.push({ run, times: 1, since: run.began });
    }
  }
  return rows;
}
