import Box from '@mui/material/Box';
import { useState } from 'react';
import { Wide } from '../looks/Wide';
import { useKept } from '../shell/useKept';
import { ListTools } from './ListTools';
import { type Column, RecordTable } from './RecordTable';

/** A column of figures; without an order the table is not sorted by it. */
export interface FigureColumn<T> extends Column<T> {
  order?: (row: T) => number | string;
}

interface Props<T> {
  label: string;
  /** What is kept of its columns, and what its file is called. */
  name: string;
  columns: FigureColumn<T>[];
  rows: T[];
  keyOf: (row: T) => string;
}

/** Figures that are all at hand, sorted as one chooses. */
export function FiguresTable<T>({ label, name, columns, rows, keyOf }: Props<T>) {
  const hiddenFirst = columns.filter(({ isHiddenFirst }) => isHiddenFirst).map(({ field }) => field);
  const [hidden, setHidden] = useKept<string[]>(`${name}-hidden-columns`, hiddenFirst, localStorage);
  const [sort, setSort] = useState('');
  const by = columns.find(({ field }) => field === sort.replace('-', ''))?.order;
  const sorted = by ? rows.toSorted((one, other) => compare(by(one), by(other)) * (sort.startsWith('-') ? -1 : 1)) : rows;
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
        />
      </Wide>
      <Box sx={{ mt: 1 }}>
        <ListTools name={label.toLowerCase()} columns={columns} hidden={hidden} onHidden={setHidden} all={async () => sorted} savesHidden />
      </Box>
    </>
  );
}

function compare(one: number | string, other: number | string): number {
  return typeof one === 'number' && typeof other === 'number' ? one - other : String(one).localeCompare(String(other));
}
