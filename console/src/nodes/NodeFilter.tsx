import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../api/client';
import { fieldsOf } from '../lists/completions';
import { FilterField } from '../lists/FilterField';
import words from '../words/words.json';
import { labelsOf } from './labels';

/** Values of fields with a fixed set of values. */
const VALUES: Record<string, string[]> = {
  'node.status': Object.keys(words.node_status).filter((status) => status !== 'retired'),
  'node.last_contact': ['on_time', 'late', 'silent', 'never_reported'],
  'node.mode': ['observe', 'enforce'],
  'node.problems': Object.keys(words.node_problem),
};

/** The filter of a list of nodes, with completions of the labels that there are. */
export function NodeFilter({ filter, onFilter, error }: { filter: string; onFilter: (filter: string) => void; error: Error | null }) {
  const [wasFocused, setFocused] = useState(false);
  const known = useQuery({ queryKey: ['nodes', ''], queryFn: ({ signal }) => api.nodes({}, signal), enabled: wasFocused, staleTime: 60_000 });
  const labels = Object.entries(labelsOf(known.data?.nodes ?? [])).map(([label, values]) => [`labels.${label}`, values] as const);
  return (
    <FilterField
      filter={filter}
      onFilter={onFilter}
      error={error}
      vocabulary={{ fields: [...fieldsOf('node'), ...labels.map(([label]) => label)], values: { ...VALUES, ...Object.fromEntries(labels) } }}
      placeholder={'all nodes; for example labels.site == "auken" && node.status == "failed"'}
      onFocus={() => setFocused(true)}
    />
  );
}
