import { useSearchParams } from 'react-router';

/** The filter in the address, and a function that sets it. The back button restores the previous one. */
export function useFilter(name = 'filter'): [string, (filter: string) => void] {
  const [parameters, setParameters] = useSearchParams();
  return [parameters.get(name) ?? '', (filter) => setParameters(withParameter(name, filter))];
}

/** The order in the address, as `-last_contact`, and a function that sets it. */
export function useSort(name = 'sort'): [string, (sort: string) => void] {
  const [parameters, setParameters] = useSearchParams();
  return [parameters.get(name) ?? '', (sort) => setParameters(withParameter(name, sort), { replace: true })];
}

function withParameter(name: string, value: string) {
  return (before: URLSearchParams) => {
    const after = new URLSearchParams(before);
    if (value) after.set(name, value);
    else after.delete(name);
    return after;
  };
}

/** The address of the list of nodes that match a filter. */
export function listOf(filter: string): string {
  return filter ? `/nodes?filter=${encodeURIComponent(filter)}` : '/nodes';
}

/** A filter that matches these nodes by name. */
export function namesFilter(names: string[]): string {
  return `node.name in ${JSON.stringify(names).replaceAll(',', ', ')}`;
}

/** The conjunction of two filters. */
export function both(one: string, other: string): string {
  return one && other ? `(${one}) && ${other}` : one || other;
}

/** The address of a list whose entries match a filter. */
export function listAt(path: string, filter: string): string {
  return `${path}?filter=${encodeURIComponent(filter)}`;
}

/** A filter as a quoted argument of a shell command. */
export function asArgument(filter: string): string {
  return filter ? ` --filter '${filter.replaceAll("'", "'\\''")}'` : '';
}
