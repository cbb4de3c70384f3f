import Button from '@mui/material/Button';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import type { Schemas } from '../api/client';
import { mayOn, sessionQuery } from '../shell/session';
import { SweepDialog } from './SweepDialog';

interface Where {
  nodes?: string[];
  filter?: string;
  /** The nodes in words. */
  where: string;
  part?: Schemas['Part'];
  /** Whether the named clauses are corrected once, whatever their switches say. */
  correctOnce?: boolean;
  /** What tells it apart from others of its kind on the page. */
  label?: string;
  variant?: 'text' | 'outlined';
}

/** Opens the form of a sweep over these nodes. Who may not begin one is told who may. */
export function RunNowButton({ label, variant = 'outlined', ...asked }: Where) {
  const session = useQuery(sessionQuery);
  const [isOpen, setOpen] = useState(false);
  const needed = asked.correctOnce ? 'run.correct_once' : 'run.now';
  const may = mayOn(session.data).includes(needed);
  const words = asked.correctOnce ? 'Correct once…' : 'Run now…';
  return (
    <>
      <Button
        variant={variant}
        size="small"
        disabled={!may}
        title={may ? undefined : 'for operators, approvers and administrators'}
        aria-label={label && `${words} ${label}`}
        onClick={() => setOpen(true)}
        sx={{ whiteSpace: 'nowrap' }}
      >
        {words}
      </Button>
      {isOpen && <SweepDialog {...asked} onClose={() => setOpen(false)} />}
    </>
  );
}
