import Button from '@mui/material/Button';
import Menu from '@mui/material/Menu';
import MenuItem from '@mui/material/MenuItem';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { FreezeDialog } from '../freezes/FreezeDialog';
import { SweepDialog } from '../sweeps/SweepDialog';
import { InspectDialog } from '../wakes/InspectDialog';
import { SelfTestDialog } from '../wakes/SelfTestDialog';
import { WakeDialog } from '../wakes/WakeDialog';
import { ModeDialog } from './GivenCard';
import { LabelDialog, RenameDialog, RetireDialog, RevokeDialog } from './NodeDialogs';
import { useMayOnNode } from './useMayOnNode';

const ACTIONS = {
  reach: { words: 'Reach now…', permission: 'node.wake', mayRequest: false },
  run: { words: 'Run now…', permission: 'run.now', mayRequest: false },
  follow: { words: 'Follow its runs', permission: 'node.wake', mayRequest: false },
  inspect: { words: 'Inspect…', permission: 'node.inspect', mayRequest: false },
  test: { words: 'Self-test…', permission: 'node.wake', mayRequest: false },
  label: { words: 'Label…', permission: 'node.edit', mayRequest: true },
  rename: { words: 'Rename…', permission: 'node.edit', mayRequest: true },
  mode: { words: 'Mode of its own…', permission: 'group.edit', mayRequest: true },
  freeze: { words: 'Freeze…', permission: 'freeze.set', mayRequest: false },
  retire: { words: 'Retire…', permission: 'node.edit', mayRequest: true },
  revoke: { words: 'Revoke…', permission: 'node.revoke', mayRequest: false },
};

type Action = keyof typeof ACTIONS;

/** What operators may do too. */
const FOR_OPERATORS = ['freeze.set', 'node.inspect', 'node.wake', 'run.now'];

/** What can be done with one node. What one may not do is shown, with who may. */
export function NodeActions({ name }: { name: string }) {
  const [anchor, setAnchor] = useState<HTMLElement | null>(null);
  return (
    <>
      <Button variant="outlined" aria-haspopup="menu" onClick={(event) => setAnchor(event.currentTarget)}>
        Actions
      </Button>
      {anchor && <NodeActionsMenu name={name} anchor={anchor} onDone={() => setAnchor(null)} />}
    </>
  );
}

/** The menu of them, and the form of the one that is chosen. */
export function NodeActionsMenu({ name, anchor, onDone }: { name: string; anchor: HTMLElement; onDone: () => void }) {
  const [action, setAction] = useState<Action>();
  const goTo = useNavigate();
  const may = useMayOnNode(name);
  const mayHandOut = (action: Action) => may.includes(ACTIONS[action].permission);
  const isOffered = (action: Action) => mayHandOut(action) || (ACTIONS[action].mayRequest && may.includes('change.request'));
  const asked = { name, mayHandOut: action ? mayHandOut(action) : false, onClose: onDone };
  return (
    <>
      <Menu anchorEl={anchor} open={action === undefined} onClose={onDone}>
        {(Object.keys(ACTIONS) as Action[]).map((one) => (
          <MenuItem
            key={one}
            disabled={!isOffered(one)}
            onClick={() => (one === 'follow' ? goTo(`/nodes/${encodeURIComponent(name)}/follow`) : setAction(one))}
          >
            {ACTIONS[one].words}
            {!isOffered(one) &&
              (FOR_OPERATORS.includes(ACTIONS[one].permission) ? ' for operators, approvers and administrators' : ' for approvers and administrators')}
          </MenuItem>
        ))}
      </Menu>
      {action === 'reach' && <WakeDialog title={`Reach ${name} now`} which={{ nodes: [name] }} nodes={name} onClose={onDone} />}
      {action === 'run' && <SweepDialog nodes={[name]} where={name} onClose={onDone} />}
      {action === 'inspect' && <InspectDialog name={name} onClose={onDone} />}
      {action === 'test' && <SelfTestDialog name={name} onClose={onDone} />}
      {action === 'label' && <LabelDialog {...asked} names={[name]} />}
      {action === 'rename' && <RenameDialog {...asked} />}
      {action === 'mode' && <ModeDialog {...asked} />}
      {action === 'freeze' && <FreezeDialog names={[name]} onClose={onDone} />}
      {action === 'retire' && <RetireDialog {...asked} names={[name]} />}
      {action === 'revoke' && <RevokeDialog name={name} onClose={onDone} />}
    </>
  );
}
