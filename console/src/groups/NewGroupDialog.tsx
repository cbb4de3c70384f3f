import Alert from '@mui/material/Alert';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ChangeDialog } from '../changes/ChangeDialog';
import { mono } from '../looks/theme';
import { useKept } from '../shell/useKept';
import { count } from '../words/words';
import { someNames } from './groupWords';
import { useSettled } from './useSettled';

interface New {
  /** The names that are in use. */
  names: string[];
  mayHandOut: boolean;
  onClose: () => void;
}

const NAME = /^[a-z0-9-]{1,64}$/;

/** Makes a group: its name, its priority and its nodes. What it gives them is added on its page. */
export function NewGroupDialog({ names, mayHandOut, onClose }: New) {
  const [typed, setTyped, drop] = useKept('a new group', { name: '', priority: '10', filter: '' });
  const priority = Number(typed.priority);
  const isFine = NAME.test(typed.name) && !names.includes(typed.name);
  const wrongName = names.includes(typed.name) ? 'there is a group of this name already' : 'lower-case letters, digits and -, at most 64';
  const wrongPriority = !Number.isInteger(priority) || Math.abs(priority) > 1_000_000;
  return (
    <ChangeDialog
      title="New group"
      next="It gives its nodes nothing yet: baselines, parameters and settings are added on its page."
      isWhole={isFine && !wrongPriority && typed.priority.trim() !== ''}
      filledIn={JSON.stringify(typed)}
      mayHandOut={mayHandOut}
      ask={({ because, preview, request }) =>
        api.setGroup(
          { name: typed.name, priority, filter: typed.filter.trim() || undefined, settings: {} },
          { because: because ?? undefined, preview, request },
        )
      }
      onClose={() => {
        drop();
        onClose();
      }}
    >
      <TextField
        label="Name"
        value={typed.name}
        onChange={(event) => setTyped({ ...typed, name: event.target.value })}
        error={typed.name !== '' && !isFine}
        helperText={typed.name !== '' && !isFine ? wrongName : undefined}
        margin="dense"
        slotProps={{ htmlInput: { spellCheck: false } }}
      />
      <TextField
        label="Priority"
        value={typed.priority}
        onChange={(event) => setTyped({ ...typed, priority: event.target.value })}
        error={wrongPriority}
        helperText={
          wrongPriority ? 'a whole number from -1000000 to 1000000' : 'What a group of higher priority gives is put over what one of lower priority gives.'
        }
        margin="dense"
      />
      <TextField
        label="Filter (empty: only nodes that are named on its page)"
        multiline
        value={typed.filter}
        onChange={(event) => setTyped({ ...typed, filter: event.target.value })}
        placeholder={'labels.role == "kiosk"'}
        margin="dense"
        slotProps={{ htmlInput: { style: { fontFamily: mono, fontSize: 14 }, maxLength: 2000 } }}
      />
      <Selected filter={typed.filter.trim()} />
    </ChangeDialog>
  );
}

/** How many nodes a filter selects, and which. */
function Selected({ filter }: { filter: string }) {
  const settled = useSettled(filter);
  const tried = useQuery({
    queryKey: ['group members', settled],
    queryFn: ({ signal }) => api.tryMembers({ filter: settled, nodes: [] }, signal),
    enabled: settled !== '',
    placeholderData: (before) => before,
  });
  if (settled === '') return null;
  if (tried.error) return <Alert severity="error">{problemWords(tried.error)}</Alert>;
  return (
    <Typography aria-live="polite">
      {tried.data && (
        <>
          <b>{count(tried.data.nodes, 'node')}</b> now: {someNames(tried.data.names, tried.data.nodes)}
        </>
      )}
    </Typography>
  );
}
