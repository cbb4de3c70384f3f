import type { Schemas } from '../api/client';

/** One clause's lane, with a bar an episode. Places are parts of the whole, 0 to 1. */
export interface Lane {
  address: string;
  bars: Bar[];
}

/** One episode: the window in which the drift happened, then the time it was known and open. */
export interface Bar {
  episode: Schemas['Episode'];
  from: number;
  detected: number;
  to: number;
}

const HOUR = 3_600_000;

/** Returns the lanes of a node's episodes, the latest drift first, and since when they are drawn. */
export function lanes(episodes: Schemas['Episode'][], now: number): { since: number; lanes: Lane[] } {
  const starts = episodes.map((episode) => Date.parse(episode.in_line_until));
  // At least an hour, so that what happened just now is not drawn as if it filled the day.
  const since = Math.min(now - HOUR, ...starts);
  const place = (at: string | null | undefined) => Math.min(1, Math.max(0, ((at ? Date.parse(at) : now) - since) / (now - since)));
  const by = new Map<string, Bar[]>();
  for (const episode of episodes) {
    const bar = { episode, from: place(episode.in_line_until), detected: place(episode.detected_at), to: place(episode.closed_at) };
    by.set(episode.address, [...(by.get(episode.address) ?? []), bar]);
  }
  const all = [...by].map(([address, bars]) => ({ address, bars }));
  const latest = (lane: Lane) => Math.max(...lane.bars.map((bar) => bar.to));
  return { since, lanes: all.sort((left, right) => latest(right) - latest(left)) };
}
