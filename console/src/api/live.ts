import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

/** Changes within this time cause one refresh, in milliseconds. */
const GATHER_MS = 250;

/** Refreshes the page on events of the server, but for queries that cost it much, whose `meta` says so. Returns whether the connection is open. */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [isConnected, setConnected] = useState(true);
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const source = new EventSource('/api/live');
    source.addEventListener('changed', () => {
      timer ??= setTimeout(() => {
        timer = undefined;
        void queries.invalidateQueries({ predicate: (query) => !query.meta?.isRefreshedByTimeOnly });
      }, GATHER_MS);
    });
    source.addEventListener('sweeps', () => {
      for (const queryKey of [['sweep'], ['sweeps'], ['activities']]) void queries.invalidateQueries({ queryKey });
    });
    source.addEventListener('activities', () => void queries.invalidateQueries({ queryKey: ['activities'] }));
    source.onopen = () => setConnected(true);
    source.onerror = () => setConnected(false);
    return () => {
      clearTimeout(timer);
      source.close();
    };
  }, [queries]);
  return isConnected;
}
