import { queryOptions } from '@tanstack/react-query';
import { api, keepToken } from '../api/client';

/** Who is signed in, and where. */
export const sessionQuery = queryOptions({
  queryKey: ['session'],
  queryFn: async ({ signal }) => {
    const session = await api.session(signal);
    keepToken(session.token);
    return session;
  },
  staleTime: 5 * 60_000,
});
