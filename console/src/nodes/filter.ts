import { useSearchParams } from 'react-router';

/** The filter that stands in the address, and a way to set it. Going back brings the one before it. */
export function useFilter(): [string, (filter: string) => void] {
  const [parameters, setParameters] = useSearchParams();
  return [parameters.get('filter') ?? '', (filter) => setParameters(filter ? { filter } : {})];
}

/** The address of the list of just these nodes. */
export function listOf(filter: string): string {
  return filter ? `/nodes?filter=${encodeURIComponent(filter)}` : '/nodes';
}

/** A filter that names just these nodes. */
export function namesFilter(names: string[]): string {
  return `node.name in ${JSON.stringify(names).replaceAll(',', ', ')}`;
}

/** Both filters at once. */
export function both(one: string, other: string): string {
  return one && other ? `(${one}) && ${other}` : one || other;
}

/** A filter as an argument of a command in a shell. */
export function asArgument(filter: string): string {
  return filter ? ` --filter '${filter.replaceAll("'", "'\\''")}'` : '';
}
