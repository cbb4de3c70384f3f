import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import type { ReactNode } from 'react';
import { Refused } from '../api/client';
import { Wide } from '../looks/Wide';
import { QueryView } from '../shell/QueryView';
import { useKept } from '../shell/useKept';
import { count } from '../words/words';
import { fieldsOf } from './completions';
import { FilterField } from './FilterField';
import { ListTools } from './ListTools';
import { type Column, RecordTable, type Selection } from './RecordTable';
import type { List } from './useList';

interface Props<T> {
  /** What the table is called. */
  label: string;
  list: List<T>;
  columns: Column<T>[];
  keyOf: (entry: T) => string;
  /** What entries are called, one and many: `['entry', 'entries']`. */
  nouns: [string, string];
  /** An example of a filter; none where the filter of the page is that of the list too. */
  example?: string;
  /** Stands there if the list has no entries at all. */
  empty: ReactNode;
  selection?: Selection<T>;
  actions?: (entry: T) => ReactNode;
  below?: (entry: T) => ReactNode;
}

/** A list with its filter, its columns to choose, what saves it as CSV, and its pages. */
export function ListView<T>({ label, list, columns, keyOf, nouns, example, empty, selection, actions, below }: Props<T>) {
  const hiddenFirst = columns.filter(({ isHiddenFirst }) => isHiddenFirst).map(({ field }) => field);
  const [hidden, setHidden] = useKept<string[]>(`${label}-hidden-columns`, hiddenFirst, localStorage);
  const { query, filter, onFilter, page, hasMore, goTo } = list;
  // The field says what is wrong with it.
  const isFilterWrong = query.error instanceof Refused && query.error.problem.type === 'filter';
  const entries = query.data?.entries ?? [];
  const isEmpty = query.data !== undefined && entries.length === 0 && page === 0;
  if (isEmpty && !filter) return empty;
  return (
    <>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, rowGap: 1, alignItems: 'flex-start', justifyContent: 'flex-end', mb: 1 }}>
        {example !== undefined && (
          <FilterField
            label={`Filter of ${label}`}
            filter={filter}
            onFilter={onFilter}
            error={query.error}
            vocabulary={{ fields: fieldsOf(list.name), values: valuesOf(list.name, entries) }}
            placeholder={`all; for example ${example}`}
          />
        )}
        <Typography role="status" sx={{ color: 'text.secondary', pt: 0.75, whiteSpace: 'nowrap' }}>
          {query.data ? shownWords(list.before, entries.length, hasMore, nouns) : query.error ? '' : 'loading'}
        </Typography>
        <ListTools name={label.toLowerCase()} columns={columns} hidden={hidden} onHidden={setHidden} all={list.all} />
      </Box>
      {!isFilterWrong && (
        <QueryView query={query}>
          {() =>
            isEmpty ? (
              <Typography>Nothing matches the filter. Relax it to see more.</Typography>
            ) : (
              <Wide>
                <RecordTable
                  label={label}
                  isSortable={(field) => fieldsOf(list.name).includes(`${list.name}.${field}`)}
                  columns={columns.filter(({ field }) => !hidden.includes(field))}
                  entries={entries}
                  keyOf={keyOf}
                  sort={list.sort}
                  onSort={list.onSort}
                  selection={selection}
                  actions={actions}
                  below={below}
                />
              </Wide>
            )
          }
        </QueryView>
      )}
      {(page > 0 || hasMore) && (
        <Box component="nav" aria-label={`Pages of ${label}`} sx={{ display: 'flex', gap: 1, justifyContent: 'flex-end', alignItems: 'center', mt: 1 }}>
          <Button variant="text" size="small" disabled={page === 0} onClick={() => goTo(page - 1)}>
            Previous page
          </Button>
          <Button variant="text" size="small" disabled={!hasMore || query.isPlaceholderData} onClick={() => goTo(page + 1)}>
            Next page
          </Button>
        </Box>
      )}
    </>
  );
}

/** `3 machines`, or `101 to 200, more follow`. */
function shownWords(before: number, shown: number, hasMore: boolean, nouns: [string, string]): string {
  if (before === 0 && !hasMore) return count(shown, ...nouns);
  const range = `${before + 1} to ${before + shown}`;
  return hasMore ? `${range}, more follow` : range;
}

/** The texts that the entries on this page have in their fields: completions of a filter. */
function valuesOf<T>(list: string, entries: T[]): Record<string, string[]> {
  const values = (field: string) => {
    const found = entries.map((entry) => (entry as Record<string, unknown>)[field.slice(list.length + 1)]);
    const texts = found.flatMap((value) => (Array.isArray(value) ? value : [value])).filter((value) => typeof value === 'string');
    return [...new Set(texts)].sort();
  };
  return Object.fromEntries(fieldsOf(list).map((field) => [field, values(field)]));
}
