import type { Schemas } from '../api/client';
import { clock } from '../words/time';

type Evidence = Schemas['Evidence'];

/** How far evidence is. */
export function progressWords({ status, is_begun, done, total, ended_because }: Evidence): string {
  switch (status) {
    case 'waiting':
      if (!is_begun) return 'waits';
      if (total === 0) return 'is begun';
      return done < total ? `${done} of ${total} nodes` : `${total} nodes counted, the file is being written`;
    case 'made':
      return 'made';
    case 'failed':
      return `failed: ${ended_because}`;
    case 'stopped':
      return `stopped by ${ended_because}`;
    case 'removed':
      return 'its file is removed';
  }
}

/** What is asked, in words. */
export function questionWords({ as_of, as_known_at, since, controls, filter }: Schemas['Question']): string {
  const known = as_known_at === as_of ? '' : `, as known at ${clock(as_known_at)}`;
  const period = since ? `, deviations since ${clock(since)}` : '';
  return `${filter ? `nodes where ${filter}` : 'all nodes'}, ${controls.length > 0 ? controls.join(', ') : 'all clauses'}, as of ${clock(as_of)}${known}${period}`;
}

/** A size as people read it. */
export function size(bytes: number): string {
  return bytes < 1_048_576 ? `${Math.ceil(bytes / 1024)} KiB` : `${(bytes / 1_048_576).toFixed(1)} MiB`;
}
