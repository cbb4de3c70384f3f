import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { mayOn, sessionQuery } from '../shell/session';

/** What the person may do on one node. Its groups are only asked for where a role is held for some. */
export function useMayOnNode(name: string): string[] {
  const session = useQuery(sessionQuery);
  const isLimited = (session.data?.limited ?? []).length > 0;
  const sources = useQuery({ queryKey: ['node', name, 'sources'], queryFn: ({ signal }) => api.why(name, signal), enabled: isLimited });
  return mayOn(session.data, sources.data?.groups ?? []);
}
