import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import Tooltip from '@mui/material/Tooltip';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { problemWords } from '../changes/ConfirmDialog';
import { save, toCsv } from '../words/csv';
import { allNodes, COLUMNS } from './nodeColumns';

/** Which columns the list shows, and what takes the whole list along as CSV. */
export function ListTools({ hidden, onHidden, filter, sort }: { hidden: string[]; onHidden: (fields: string[]) => void; filter: string; sort: string }) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const csv = useMutation({
    mutationFn: async () => {
      const shown = COLUMNS.filter(({ field }) => !hidden.includes(field));
      const nodes = await allNodes(filter, sort);
      save(
        'nodes.csv',
        toCsv(
          shown.map(({ head }) => head),
          nodes.map((node) => shown.map(({ text }) => text(node))),
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
        {COLUMNS.map(({ field, head }) => (
          <MenuItem key={field} role="menuitemcheckbox" aria-checked={!hidden.includes(field)} disabled={field === 'name'} dense onClick={() => toggle(field)}>
            <Checkbox
              checked={!hidden.includes(field)}
              size="small"
              tabIndex={-1}
              disableRipple
              slotProps={{ input: { 'aria-hidden': true } }}
              sx={{ p: 0, mr: 1 }}
            />
            {head}
          </MenuItem>
        ))}
      </Menu>
      <Tooltip describeChild title={csv.error ? problemWords(csv.error) : 'all nodes of this list, with the columns that are shown'}>
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
