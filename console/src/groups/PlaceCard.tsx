import Box from '@mui/material/Box';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { Card } from '../looks/Card';
import type { Part } from './GroupPage';

/** The stage, the priority, and whether changes of the group ask for a second person. */
export function PlaceCard({ draft, mayEdit }: Part) {
  const stages = useQuery({ queryKey: ['stages'], queryFn: ({ signal }) => api.stages(signal) });
  const { name, priority, stage, second_person } = draft.draft;
  return (
    <Card title="Stage and priority">
      <Box sx={{ display: 'grid', gap: 1.5, gridTemplateColumns: '1fr 1fr' }}>
        <TextField
          select
          label="Stage"
          size="small"
          disabled={!mayEdit}
          value={stage ?? ''}
          onChange={(event) => draft.set({ stage: event.target.value || undefined })}
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        >
          <MenuItem value="">left to other groups</MenuItem>
          {(stages.data ?? []).map((known) => (
            <MenuItem key={known.name} value={known.name}>
              {known.name}
            </MenuItem>
          ))}
        </TextField>
        <TextField
          type="number"
          label="Priority, the higher wins"
          size="small"
          disabled={!mayEdit || name === 'everyone'}
          value={priority ?? 0}
          onChange={(event) => draft.set({ priority: Number.parseInt(event.target.value, 10) || 0 })}
        />
      </Box>
      <FormControlLabel
        control={
          <Checkbox size="small" disabled={!mayEdit} checked={second_person ?? false} onChange={(_, checked) => draft.set({ second_person: checked })} />
        }
        label="A second person approves changes of this group"
      />
    </Card>
  );
}
