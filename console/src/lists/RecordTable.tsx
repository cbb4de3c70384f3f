import Checkbox from '@mui/material/Checkbox';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TableSortLabel from '@mui/material/TableSortLabel';
import { Fragment, type ReactNode } from 'react';
import { Unseen } from '../looks/Unseen';
import type { Choosable } from './ListTools';

/** A column of a list. */
export interface Column<T> extends Choosable<T> {
  /** What stands in it, if that is more than its text. */
  cell?: (entry: T) => ReactNode;
  align?: 'right';
  width?: number | string;
  /** Where it is not broken into lines. */
  isOneLine?: boolean;
  /** Whether it is shown only when it is chosen. */
  isHiddenFirst?: boolean;
}

/** Which entries are selected, by their keys. */
export interface Selection<T> {
  selected: Set<string>;
  onSelected: (keys: Set<string>) => void;
  /** What an entry is called where it is selected. */
  label: (entry: T) => string;
  isDisabled?: boolean;
}

interface Props<T> {
  label: string;
  /** Whether it is sorted by a field. */
  isSortable: (field: string) => boolean;
  columns: Column<T>[];
  entries: T[];
  keyOf: (entry: T) => string;
  sort: string;
  onSort: (sort: string) => void;
  selection?: Selection<T>;
  /** What can be done with an entry. */
  actions?: (entry: T) => ReactNode;
  /** What stands below an entry, over the whole width. */
  below?: (entry: T) => ReactNode;
  /** Of an entry that only heads those after it, what it says. */
  heading?: (entry: T) => string | undefined;
}

/** The entries of a list, a row each. */
export function RecordTable<T>({ label, isSortable, columns, entries, keyOf, sort, onSort, selection, actions, below, heading }: Props<T>) {
  const keys = entries.map(keyOf);
  const width = columns.length + (selection ? 1 : 0) + (actions ? 1 : 0);
  return (
    <Table size="small" aria-label={label} sx={{ '& td': { verticalAlign: 'top', overflowWrap: 'anywhere' } }}>
      <TableHead>
        <TableRow>
          {selection && <SelectAll keys={keys} selection={selection} />}
          {columns.map(({ field, head, align, width }) => (
            <TableCell key={field} align={align} sx={{ width }} sortDirection={field === sort ? 'asc' : `-${field}` === sort ? 'desc' : false}>
              {isSortable(field) ? (
                <TableSortLabel
                  active={sort.replace('-', '') === field}
                  direction={sort.startsWith('-') ? 'desc' : 'asc'}
                  onClick={() => onSort(after(field, sort))}
                >
                  {head}
                </TableSortLabel>
              ) : (
                head
              )}
            </TableCell>
          ))}
          {actions && (
            <TableCell>
              <Unseen>Actions</Unseen>
            </TableCell>
          )}
        </TableRow>
      </TableHead>
      <TableBody>
        {entries.map((entry) => {
          const more = below?.(entry);
          const head = heading?.(entry);
          if (head !== undefined) {
            return (
              <TableRow key={keyOf(entry)}>
                <TableCell colSpan={width} sx={{ fontWeight: 600 }}>
                  {head}
                </TableCell>
              </TableRow>
            );
          }
          return (
            <Fragment key={keyOf(entry)}>
              <TableRow selected={selection?.selected.has(keyOf(entry))} sx={more ? { '& > td': { borderBottom: 0 } } : undefined}>
                {selection && (
                  <TableCell padding="checkbox">
                    <Checkbox
                      size="small"
                      disabled={selection.isDisabled}
                      checked={selection.selected.has(keyOf(entry))}
                      onChange={(_, on) => selection.onSelected(chosenAfter([keyOf(entry)], on, selection.selected))}
                      slotProps={{ input: { 'aria-label': `select ${selection.label(entry)}` } }}
                    />
                  </TableCell>
                )}
                {columns.map(({ field, align, text, cell, isOneLine }) => (
                  <TableCell key={field} align={align} sx={isOneLine ? { whiteSpace: 'nowrap' } : undefined}>
                    {cell ? cell(entry) : text(entry)}
                  </TableCell>
                ))}
                {actions && (
                  <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                    {actions(entry)}
                  </TableCell>
                )}
              </TableRow>
              {more && (
                <TableRow>
                  <TableCell colSpan={width} sx={{ pt: 0, pl: 2 }}>
                    {more}
                  </TableCell>
                </TableRow>
              )}
            </Fragment>
          );
        })}
      </TableBody>
    </Table>
  );
}

function SelectAll<T>({ keys, selection }: { keys: string[]; selection: Selection<T> }) {
  const chosen = keys.filter((key) => selection.selected.has(key)).length;
  return (
    <TableCell padding="checkbox">
      <Checkbox
        size="small"
        disabled={selection.isDisabled}
        checked={chosen > 0 && chosen === keys.length}
        indeterminate={chosen > 0 && chosen < keys.length}
        onChange={(_, on) => selection.onSelected(chosenAfter(keys, on, selection.selected))}
        slotProps={{ input: { 'aria-label': 'select all' } }}
      />
    </TableCell>
  );
}

/** Upwards, downwards, then in the order of the list itself. */
function after(field: string, sort: string): string {
  if (sort === field) return `-${field}`;
  return sort === `-${field}` ? '' : field;
}

function chosenAfter(keys: string[], on: boolean, selected: Set<string>): Set<string> {
  const next = new Set(selected);
  for (const key of keys) {
    if (on) next.add(key);
    else next.delete(key);
  }
  return next;
}
