import Typography from '@mui/material/Typography';
import { api, type Schemas } from '../api/client';
import { ReasonDialog } from '../shell/ReasonDialog';

/** Denies a requested change, with the reason that its author reads. */
export function DenyDialog({ change, onClose }: { change: Schemas['ChangeSummary']; onClose: () => void }) {
  return (
    <ReasonDialog title={`Deny C${change.no}: ${change.what}?`} action="Deny" act={(because) => api.denyChange(change.no, { because })} onClose={onClose}>
      <Typography>Nothing of it is handed out. {change.who} reads the reason with the change.</Typography>
    </ReasonDialog>
  );
}
