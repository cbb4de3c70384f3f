import Autocomplete from '@mui/material/Autocomplete';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { ChangeDialog } from '../changes/ChangeDialog';
import { asked } from '../node/NodeDialogs';
import { useTyped } from '../shell/useKept';

interface Served {
  kit: string;
  version: string;
  baselines: string[];
  mayHandOut: boolean;
  onClose: () => void;
}

/** Serves a release in a stage, and assigns its baselines to groups by the same change. */
export function ServeDialog({ kit, version, baselines, mayHandOut, onClose }: Served) {
  const stages = useQuery({ queryKey: ['stages'], queryFn: ({ signal }) => api.stages(signal) });
  const groups = useQuery({ queryKey: ['groups'], queryFn: ({ signal }) => api.groups(signal) });
  const draft = `serve ${kit}@${version}`;
  const [typed, setTyped] = useTyped(`${draft} stage`, '');
  const [assigned, setAssigned] = useTyped<string[]>(`${draft} groups`, []);
  const [chosen, setChosen] = useTyped(`${draft} baselines`, baselines.length === 1 ? baselines : []);
  const stage = typed || (stages.data?.[0]?.name ?? '');
  const release = `${kit}@${version}`;
  const assign = assigned.flatMap((group) => chosen.map((baseline) => ({ group, kit, baseline })));
  return (
    <ChangeDialog
      title={`Serve ${release}`}
      next={
        assigned.length > 0
          ? 'The stage serves it and the groups are assigned the baselines by one change: all or nothing.'
          : 'Nodes of this stage have it with their next check-ins, as far as their groups assign its baselines.'
      }
      isWhole={stage !== '' && (assigned.length === 0 || chosen.length > 0)}
      filledIn={JSON.stringify([stage, assign])}
      mayHandOut={mayHandOut}
      ask={(how) => api.serveInStage(stage, { releases: [release], assign, ...asked(how) })}
      onClose={onClose}
    >
      <TextField select label="Stage" value={stage} onChange={(event) => setTyped(event.target.value)} margin="dense">
        {(stages.data ?? []).map(({ name }) => (
          <MenuItem key={name} value={name}>
            {name}
          </MenuItem>
        ))}
      </TextField>
      <Autocomplete
        multiple
        options={(groups.data ?? []).map(({ group }) => group.name)}
        value={assigned}
        onChange={(_, groups) => setAssigned(groups)}
        renderInput={(input) => <TextField {...input} label="Assign it to groups (none: only serve it)" margin="dense" />}
      />
      {assigned.length > 0 && (
        <Autocomplete
          multiple
          options={baselines}
          value={chosen}
          onChange={(_, chosen) => setChosen(chosen)}
          renderInput={(input) => <TextField {...input} label="Which baselines" margin="dense" />}
        />
      )}
    </ChangeDialog>
  );
}
