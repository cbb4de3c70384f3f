import { queryOptions } from '@tanstack/react-query';
import { api, keepToken, type Schemas } from '../api/client';

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

/** What a person may do on the nodes of these groups, or as far as it is known for any: everywhere, or by a role for one of them. */
export function mayOn(session: Schemas['Session'] | undefined, groups?: string[]): string[] {
  const limited = (session?.limited ?? []).filter((one) => groups === undefined || one.groups.some((group) => groups.includes(group)));
  return [...(session?.permissions ?? []), ...limited.map(({ permission }) => permission)];
}
