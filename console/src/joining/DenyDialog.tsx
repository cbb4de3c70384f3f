import Typography from '@mui/material/Typography';
import { api, type Schemas } from '../api/client';
import { someNames } from '../groups/groupWords';
import { ReasonDialog } from '../shell/ReasonDialog';
import { count } from '../words/words';

/** Denies requests, with a reason that the machines receive. */
export function DenyDialog({ requests, onClose }: { requests: Schemas['JoiningRequest'][]; onClose: () => void }) {
  const names = requests.map(({ name }) => name);
  return (
    <ReasonDialog
      title={`Deny ${count(requests.length, 'machine')}?`}
      action="Deny"
      act={(because) => api.denyRequests({ requests: requests.map(({ id }) => id), because })}
      onClose={onClose}
    >
      <Typography sx={{ overflowWrap: 'anywhere' }}>{someNames(names, names.length, 20)}</Typography>
      <Typography>The machines receive the reason. No admission rule lets in later what asks with the same key or under the same name.</Typography>
    </ReasonDialog>
  );
}
