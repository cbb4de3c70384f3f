import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

/** How long changes are gathered before the pages look again, in milliseconds. */
const GATHER_MS = 250;

/** Keeps everything on the page fresh by the server's events. Returns whether the server is heard. */
export function useLive(): boolean {
  const queries = useQueryClient();
  const [isHeard, setHeard] = useState(true);
  useEffect(() => {
    let timer: ReturnType<typeof setTimeout> | undefined;
    const source = new EventSource('/api/events');
    source.addEventListener('changed', () => {
      timer ??= setTimeout(() => {
        timer = undefined;
        void queries.invalidateQueries();
      }, GATHER_MS);
    });
    source.addEventListener('work', () => void queries.invalidateQueries({ queryKey: ['work'] }));
    source.onopen = () => setHeard(true);
    source.onerror = () => setHeard(false);
    return () => {
      clearTimeout(timer);
      source.close();
    };
  }, [queries]);
  return isHeard;
}
