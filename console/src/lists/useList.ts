import { keepPreviousData, type UseQueryResult, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { allEntries, type ListPage, type ListQuery } from '../api/client';
import { useFilter, useSort } from './filter';

/** The server sends so many entries at once where nothing else is said. */
const PAGE = 100;
/** And so many where the whole list is read. */
const AT_ONCE = 1_000;

type Read<T> = (query: ListQuery, signal?: AbortSignal) => Promise<ListPage<T>>;

/** A list as it is shown: filtered, sorted and paged by the server. */
export interface List<T> {
  /** What its entries are called in filters: `change`. */
  name: string;
  query: UseQueryResult<ListPage<T>, Error>;
  filter: string;
  onFilter: (filter: string) => void;
  /** The order, as `-drafted`; empty for its own. */
  sort: string;
  onSort: (sort: string) => void;
  /** From 0 on. */
  page: number;
  hasMore: boolean;
  goTo: (page: number) => void;
  /** How many entries the pages before have. */
  before: number;
  /** Reads all entries, with the filter and order that are chosen. */
  all: () => Promise<T[]>;
}

interface Options {
  /** Which request this is, so that others are not taken for it. */
  key: unknown[];
  /** Stands before `filter` and `sort` in the address, where a page has several lists. */
  prefix?: string;
  /** How many entries a page has. */
  size?: number;
  enabled?: boolean;
  refetchInterval?: (entries: unknown[]) => number | false;
  meta?: Record<string, unknown>;
}

/** A list whose filter and order are in the address. */
export function useList<T>(name: string, read: Read<T>, { key, prefix = '', size = PAGE, enabled = true, refetchInterval, meta }: Options): List<T> {
  const [filter, onFilter] = useFilter(`${prefix}filter`);
  const [sort, onSort] = useSort(`${prefix}sort`);
  // Where each page begins that was reached in this list; another filter or order is another list.
  const list = JSON.stringify([key, filter, sort]);
  const [reached, setReached] = useState<{ list: string; page: number; begins: (string | undefined)[] }>({ list, page: 0, begins: [undefined] });
  const { page, begins } = reached.list === list ? reached : { page: 0, begins: [undefined] };
  const after = begins[page];
  const chosen = { ...(filter && { filter }), ...(sort && { sort }) };
  const query = useQuery({
    queryKey: [...key, chosen, after],
    queryFn: ({ signal }) => fullPage(read, size, { ...chosen, ...(after && { after }) }, signal),
    placeholderData: keepPreviousData,
    enabled,
    meta,
    refetchInterval: ({ state }) => refetchInterval?.(state.data?.entries ?? []) ?? false,
  });
  const next = query.data?.next;
  const goTo = (to: number) => {
    const known = to > page && next ? [...begins.slice(0, page + 1), next] : begins;
    if (to < known.length) setReached({ list, page: to, begins: known });
  };
  const all = () => allEntries((after) => read({ size: AT_ONCE, ...chosen, ...(after && { after }) }));
  return { name, query, filter, onFilter, sort, onSort, page, hasMore: next !== undefined, goTo, before: page * size, all };
}

/** Where few entries match, the server ends a page before it is full: it goes on, so that each page but the last has as many as it says. */
async function fullPage<T>(read: Read<T>, size: number, query: ListQuery, signal?: AbortSignal): Promise<ListPage<T>> {
  let page = await read({ size, ...query }, signal);
  while (page.entries.length < size && page.next) {
    const more = await read({ size: size - page.entries.length, ...query, after: page.next }, signal);
    page = { entries: [...page.entries, ...more.entries], next: more.next };
  }
  return page;
}
