import Box from '@mui/material/Box';
import { type ReactNode, useState } from 'react';
import { Wide } from '../looks/Wide';
import { useKept } from '../shell/useKept';
import { ListTools } from './ListTools';
import { type Column, RecordTable } from './RecordTable';

/** A column of a table that is at hand; without an order the table is not sorted by it. */
export interface WholeColumn<T> extends Column<T> {
  order?: (row: T) => number | string;
}

interface Props<T> {
  label: string;
  /** What is kept of its columns, and what its file is called. */
  name: string;
  columns: WholeColumn<T>[];
  rows: T[];
  keyOf: (row: T) => string;
  /** What stands below a row, over the whole width. */
  below?: (row: T) => ReactNode;
  /** Of a row that only heads those after it, what it says; it goes when the table is sorted otherwise. */
  heading?: (row: T) => string | undefined;
}

/** A table all of whose rows are at hand, sorted as one chooses. */
export function WholeTable<T>({ label, name, columns, rows, keyOf, below, heading }: Props<T>) {
  const hiddenFirst = columns.filter(({ isHiddenFirst }) => isHiddenFirst).map(({ field }) => field);
  const [hidden, setHidden] = useKept<string[]>(`${name}-hidden-columns`, hiddenFirst, localStorage);
  const [sort, setSort] = useState('');
  const by = columns.find(({ field }) => field === sort.replace('-', ''))?.order;
  const plain = rows.filter((row) => heading?.(row) === undefined);
  const sorted = by ? plain.toSorted((one, other) => compare(by(one), by(other)) * (sort.startsWith('-') ? -1 : 1)) : rows;
  return (
    <>
      <Wide>
        <RecordTable
          label={label}
          isSortable={(field) => columns.find((column) => column.field === field)?.order !== undefined}
          columns={columns.filter(({ field }) => !hidden.includes(field))}
          entries={sorted}
          keyOf={keyOf}
          sort={sort}
          onSort={setSort}
          below={below}
          heading={heading}
        />
      </Wide>
      <Box sx={{ mt: 1 }}>
        <ListTools name={label.toLowerCase()} columns={columns} hidden={hidden} onHidden={setHidden} all={async () => (by ? sorted : plain)} savesHidden />
      </Box>
    </>
  );
}

function compare(one: number | string, other: number | string): number {
  return typeof one === 'number' && typeof other === 'number' ? one - other : String(one).localeCompare(String(other));
}
