import type { Schemas } from '../api/client';

/** A run, and the number of equal runs in a row before it. */
export interface AlikeRuns {
  run: Schemas['RunSummary'];
  times: number;
  since: string;
}

/** Statuses that persist: equal runs in a row report one unchanged state. */
const STILL: Schemas['Status'][] = ['failed', 'drift_found', 'unmet', 'rollout_waiting', 'not_all_seen'];

/** Returns the runs, the newest first; runs in a row with the same state, mode and status are one entry. */
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
