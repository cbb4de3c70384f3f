import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { FreezeDialog } from '../freezes/FreezeDialog';
import { someNames } from '../groups/groupWords';
import { LabelDialog, RetireDialog } from '../node/NodeDialogs';
import { mayOn, sessionQuery } from '../shell/session';
import { RunNowButton } from '../sweeps/RunNowButton';
import { WakeDialog } from '../wakes/WakeDialog';
import { count } from '../words/words';

/** What can be done with several nodes at once, as one change. */
export function SelectedNodes({ names, onNone }: { names: string[]; onNone: () => void }) {
  const session = useQuery(sessionQuery);
  const [action, setAction] = useState<'label' | 'reach' | 'freeze' | 'retire'>();
  // Whether a role for one group has all of these is the server's to say.
  const may = mayOn(session.data);
  const mayHandOut = may.includes('node.edit');
  const isOffered = mayHandOut || may.includes('change.request');
  const asked = { names, mayHandOut, onClose: () => setAction(undefined) };
  return (
    <Box role="toolbar" aria-label="Selected nodes" sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5, alignItems: 'center', mb: 1.5 }}>
      <Typography aria-live="polite">{count(names.length, 'node')} selected</Typography>
      <Button variant="outlined" size="small" disabled={!isOffered} onClick={() => setAction('label')}>
        Label…
      </Button>
      <Button variant="outlined" size="small" disabled={!may.includes('node.wake')} onClick={() => setAction('reach')}>
        Reach now…
      </Button>
      <RunNowButton nodes={names} where={count(names.length, 'node')} />
      <Button variant="outlined" size="small" disabled={!may.includes('freeze.set')} onClick={() => setAction('freeze')}>
        Freeze…
      </Button>
      <Button variant="outlined" size="small" disabled={!isOffered} onClick={() => setAction('retire')}>
        Retire…
      </Button>
      <Button variant="text" size="small" onClick={onNone}>
        Select none
      </Button>
      {!isOffered && <Typography sx={{ color: 'text.secondary' }}>Operators and publishers request this; approvers and administrators do it.</Typography>}
      {action === 'label' && <LabelDialog {...asked} />}
      {action === 'reach' && (
        <WakeDialog
          title={`Reach ${count(names.length, 'node')} now`}
          which={{ nodes: names }}
          nodes={someNames(names, names.length)}
          onClose={asked.onClose}
        />
      )}
      {action === 'freeze' && <FreezeDialog names={names} onClose={asked.onClose} />}
      {action === 'retire' && <RetireDialog {...asked} />}
    </Box>
  );
}
