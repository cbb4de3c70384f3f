import Autocomplete from '@mui/material/Autocomplete';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { baselineName } from '../groups/draft';
import { typedLabels } from './joiningWords';

/** Where machines are placed, as it is typed. */
export interface TypedPlacement {
  labels: string;
  groups: string[];
  mode: string;
  baselines: string[];
}

export const NOWHERE: TypedPlacement = { labels: '', groups: [], mode: '', baselines: [] };

/** As it is sent. */
export function placementOf({ labels, groups, mode, baselines }: TypedPlacement): Schemas['Placement'] {
  return {
    labels: typedLabels(labels).labels,
    groups,
    ...(mode && { mode: mode as Schemas['Mode'] }),
    assignments: baselines.map((name) => {
      const [kit = '', baseline = ''] = name.split('/');
      return { kit, baseline };
    }),
  };
}

/** Labels, groups, mode and baselines of machines that become nodes. */
export function PlacementFields({ placed, onPlaced, withGroups }: { placed: TypedPlacement; onPlaced: (placed: TypedPlacement) => void; withGroups: boolean }) {
  const groups = useQuery({ queryKey: ['groups'], queryFn: ({ signal }) => api.groups(signal), enabled: withGroups });
  const baselines = useQuery({ queryKey: ['baselines'], queryFn: ({ signal }) => api.baselines(signal) });
  const { wrong } = typedLabels(placed.labels);
  return (
    <>
      <TextField
        label="Labels, over those of their invitations"
        placeholder="site=auken role=kiosk"
        value={placed.labels}
        error={wrong !== undefined}
        helperText={wrong}
        onChange={(event) => onPlaced({ ...placed, labels: event.target.value })}
        margin="dense"
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
      {withGroups && (
        <Autocomplete
          multiple
          options={(groups.data ?? []).map(({ group }) => group.name).filter((name) => name !== 'everyone')}
          value={placed.groups}
          onChange={(_, groups) => onPlaced({ ...placed, groups })}
          renderInput={(params) => <TextField {...params} label="Groups that name them as members" margin="dense" />}
        />
      )}
      <TextField select label="Mode of their own" value={placed.mode} onChange={(event) => onPlaced({ ...placed, mode: event.target.value })} margin="dense">
        <MenuItem value="">as their groups say</MenuItem>
        <MenuItem value="observe">observe</MenuItem>
        <MenuItem value="enforce">enforce</MenuItem>
      </TextField>
      <Autocomplete
        multiple
        options={(baselines.data ?? []).map(baselineName)}
        value={placed.baselines}
        onChange={(_, baselines) => onPlaced({ ...placed, baselines })}
        renderInput={(params) => <TextField {...params} label="Baselines of their own, after those of their groups" margin="dense" />}
      />
    </>
  );
}
