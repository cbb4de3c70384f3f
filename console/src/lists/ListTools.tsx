import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import Tooltip from '@mui/material/Tooltip';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { problemWords } from '../api/problemWords';
import { save, toCsv } from '../words/csv';

/** A column of a list, as it is chosen and saved. */
export interface Choosable<T> {
  field: string;
  head: string;
  /** What stands in it where times are written out: in a file. */
  text: (entry: T) => string;
}

interface Props<T> {
  /** What the file is called. */
  name: string;
  columns: Choosable<T>[];
  hidden: string[];
  onHidden: (fields: string[]) => void;
  /** Reads the whole list, all pages of it. */
  all: () => Promise<T[]>;
  /** Whether columns that are not shown are saved too. */
  savesHidden?: boolean;
}

/** Which columns a list shows, the first always, and what takes the whole list along as CSV. */
export function ListTools<T>({ name, columns, hidden, onHidden, all, savesHidden = false }: Props<T>) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const csv = useMutation({
    mutationFn: async () => {
      const shown = columns.filter(({ field }) => savesHidden || !hidden.includes(field));
      const entries = await all();
      save(
        `${name}.csv`,
        toCsv(
          shown.map(({ head }) => head),
          entries.map((entry) => shown.map(({ text }) => text(entry))),
        ),
      );
    },
  });
  const toggle = (field: string) => onHidden(hidden.includes(field) ? hidden.filter((one) => one !== field) : [...hidden, field]);
  return (
    <>
      <Button
        variant="text"
        color="inherit"
        aria-haspopup="menu"
        aria-expanded={anchor !== undefined}
        onClick={(event) => setAnchor(event.currentTarget)}
        sx={{ color: 'text.secondary', fontWeight: 400 }}
      >
        Columns
      </Button>
      <Menu anchorEl={anchor} open={anchor !== undefined} onClose={() => setAnchor(undefined)}>
        {columns.map(({ field, head }, at) => (
          <MenuItem key={field} role="menuitemcheckbox" aria-checked={!hidden.includes(field)} disabled={at === 0} dense onClick={() => toggle(field)}>
            <Box component="span" aria-hidden sx={{ width: 20, color: 'primary.main' }}>
              {hidden.includes(field) ? '' : '✓'}
            </Box>
            {head}
          </MenuItem>
        ))}
      </Menu>
      <Tooltip
        describeChild
        title={
          csv.error
            ? problemWords(csv.error)
            : `the whole list as it is filtered and sorted, with ${savesHidden ? 'all columns' : 'the columns that are shown'}`
        }
      >
        <Button
          variant="text"
          color={csv.error ? 'error' : 'inherit'}
          disabled={csv.isPending}
          onClick={() => csv.mutate()}
          sx={{ color: csv.error ? undefined : 'text.secondary', fontWeight: 400 }}
        >
          {csv.isPending ? 'writing CSV' : csv.error ? 'CSV failed' : 'CSV'}
        </Button>
      </Tooltip>
    </>
  );
}
