import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Chip from '@mui/material/Chip';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { Card } from '../looks/Card';
import { mono } from '../looks/theme';
import { count } from '../words/words';
import type { Part } from './GroupPage';
import { someNames } from './groupWords';
import { useSettled } from './useSettled';

/** Which nodes the group has: by its filter, by name, and which cannot be told. An edit shows at once who comes and who goes. */
export function MembersCard({ draft, members, mayEdit }: Part & { members: Schemas['GroupMembers'] }) {
  const { name, filter, nodes } = draft.draft;
  const isEveryone = name === 'everyone';
  const isEdited = draft.edits.some(({ edit }) => edit.edit === 'filter' || edit.edit === 'members');
  const body = useSettled(JSON.stringify({ filter, nodes, group: name }));
  const tried = useQuery({
    queryKey: ['group members', body],
    queryFn: ({ signal }) => api.tryMembers(JSON.parse(body) as Schemas['TryMembers'], signal),
    enabled: isEdited,
    placeholderData: (before) => before,
  });
  const shown = isEdited ? (tried.data ?? members) : members;
  return (
    <Card title="Members">
      {isEveryone ? (
        <Typography>All nodes.</Typography>
      ) : (
        <Box sx={{ display: 'grid', gap: 1 }}>
          <TextField
            label="Filter"
            multiline
            value={filter ?? ''}
            disabled={!mayEdit}
            onChange={(event) => draft.set({ filter: event.target.value || undefined })}
            placeholder={'labels.role == "kiosk"'}
            slotProps={{ htmlInput: { style: { fontFamily: mono, fontSize: 14 }, maxLength: 2000 } }}
          />
          <NamedMembers draft={draft} mayEdit={mayEdit} />
        </Box>
      )}
      {tried.error && isEdited && (
        <Alert severity="error" sx={{ mt: 1 }}>
          {problemWords(tried.error)}
        </Alert>
      )}
      <Typography sx={{ mt: 1 }} aria-live="polite">
        <b>{count(shown.nodes, 'node')}</b> {isEdited ? 'by this edit' : 'now'}: {someNames(shown.names, shown.nodes)}
      </Typography>
      {isEdited && !tried.error && (
        <Typography>
          {shown.coming > 0 ? `Coming, ${count(shown.coming, 'node')}: ${someNames(shown.coming_names, shown.coming)}` : 'Coming: none'}
          {' · '}
          {shown.going > 0 ? `going, ${count(shown.going, 'node')}: ${someNames(shown.going_names, shown.going)}` : 'going: none'}
        </Typography>
      )}
      {shown.only_named.length > 0 && !isEveryone && (
        <Typography sx={{ color: 'text.secondary' }}>By name only: {someNames(shown.only_named, shown.only_named.length)}</Typography>
      )}
      {shown.no_nodes.length > 0 && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 1 }}>
          Named, and no node has the name: {someNames(shown.no_nodes, shown.no_nodes.length)}
        </Alert>
      )}
      {shown.undecidable > 0 && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 1 }}>
          {count(shown.undecidable, 'node')} cannot be told:{' '}
          {shown.undecidable_nodes
            .slice(0, 4)
            .map(({ name, missing }) => `${name} did not report ${missing.join(', ')}`)
            .join('; ')}
        </Alert>
      )}
    </Card>
  );
}

function NamedMembers({ draft, mayEdit }: Part) {
  const [typed, setTyped] = useState('');
  const nodes = draft.draft.nodes ?? [];
  const add = () => {
    const names = typed.split(/[\s,]+/).filter(Boolean);
    if (names.length > 0) draft.set({ nodes: [...new Set([...nodes, ...names])].sort() });
    setTyped('');
  };
  return (
    <Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 0.5, mb: nodes.length > 0 ? 1 : 0 }}>
        {nodes.map((node) => (
          <Chip key={node} size="small" label={node} onDelete={mayEdit ? () => draft.set({ nodes: nodes.filter((other) => other !== node) }) : undefined} />
        ))}
      </Box>
      <TextField
        label="Add members by name"
        size="small"
        fullWidth
        value={typed}
        disabled={!mayEdit}
        onChange={(event) => setTyped(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === 'Enter') add();
        }}
        onBlur={add}
      />
    </Box>
  );
}
