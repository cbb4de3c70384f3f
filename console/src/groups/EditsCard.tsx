import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ConfirmDialog } from '../changes/ConfirmDialog';
import { changeAddress } from '../changes/changeWords';
import { ImpactView } from '../changes/ImpactView';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { ReasonField } from '../looks/ReasonField';
import { mayOn, sessionQuery } from '../shell/session';
import { count } from '../words/words';
import type { Edit } from './draft';
import type { Part } from './GroupPage';

/** The edits that are not saved yet, each as it was and as it will be; their impact; and saving or discarding them. */
export function EditsCard({ draft, group, mayEdit }: Part & { group: string }) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const session = useQuery(sessionQuery);
  const [because, setBecause] = useState('');
  const [isConfirming, setConfirming] = useState(false);
  const mayHandOut = mayOn(session.data, [group]).includes('group.edit');
  const sent = JSON.stringify(draft.edits.map(({ edit }) => edit));
  const ask = (how: { preview?: boolean; request?: boolean }) =>
    api.editGroup(group, { edits: JSON.parse(sent) as Schemas['GroupEdit'][], because: because.trim() || undefined, ...how });
  const preview = useMutation({
    mutationFn: async () => {
      const changed = await ask({ preview: true });
      return { shown: await api.change(changed.change ?? 0), findings: changed.findings ?? [], sent };
    },
  });
  const request = useMutation({
    mutationFn: () => ask({ request: true }),
    onSuccess: (changed) => {
      draft.discard();
      if (changed.change) void navigate(changeAddress(changed.change));
    },
    onSettled: () => queries.invalidateQueries(),
  });
  if (draft.edits.length === 0) {
    return (
      <Card title="Edits">
        <Typography sx={{ color: 'text.secondary' }}>
          {mayEdit ? 'Nothing is edited. What you edit is a draft until you save it: its impact is shown here first.' : 'Nothing is edited.'}
        </Typography>
      </Card>
    );
  }
  // An impact is that of the edits that it was computed of.
  const computed = preview.data?.sent === sent ? preview.data : undefined;
  const impact = computed?.shown.impact;
  const isBusy = preview.isPending || request.isPending;
  return (
    <Card title={count(draft.edits.length, 'edit')}>
      {draft.isChangedSince && (
        <Alert severity="warning" variant="outlined" sx={{ mb: 1 }}>
          The group was changed since you began. Your edits are made on top of what it is now.
        </Alert>
      )}
      <EditList edits={draft.edits} />
      <Box sx={{ display: 'flex', mt: 1 }}>
        <ReasonField reason={because} onReason={setBecause} />
      </Box>
      {[preview.error, request.error].map(
        (error) =>
          error && (
            <Alert key={error.message} severity="error" sx={{ mt: 1 }}>
              {problemWords(error)}
            </Alert>
          ),
      )}
      {computed?.findings.map((finding) => (
        <Alert key={finding.at + finding.message} severity="warning" variant="outlined" sx={{ mt: 1 }}>
          {finding.message}
          {finding.hint && `: ${finding.hint}`}
        </Alert>
      ))}
      {impact && (
        <Box sx={{ mt: 2 }} aria-live="polite">
          <ImpactView impact={impact} isNarrow />
        </Box>
      )}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1, mt: 2 }}>
        {impact && mayHandOut ? (
          <Button variant="contained" onClick={() => setConfirming(true)}>
            Save…
          </Button>
        ) : (
          <Button variant={mayHandOut ? 'contained' : 'outlined'} disabled={isBusy || !mayEdit} onClick={() => preview.mutate()}>
            {preview.isPending ? 'Computing the impact…' : 'Show the impact'}
          </Button>
        )}
        <Button variant={mayHandOut ? 'outlined' : 'contained'} disabled={isBusy || !mayEdit} onClick={() => request.mutate()}>
          {request.isPending ? 'Requesting…' : 'Request approval'}
        </Button>
        <Button variant="text" disabled={isBusy} onClick={draft.discard}>
          Discard
        </Button>
      </Box>
      {!mayHandOut && mayEdit && (
        <Typography sx={{ fontSize: 14, color: 'text.secondary', mt: 1 }}>You may request changes; an approver hands them out.</Typography>
      )}
      {isConfirming && computed?.shown.impact && (
        <ConfirmDialog
          no={computed.shown.change.no}
          what={computed.shown.change.what}
          impact={computed.shown.impact}
          typedFrom={computed.shown.typed_from}
          onClose={() => setConfirming(false)}
          onHandedOut={draft.discard}
        />
      )}
    </Card>
  );
}

function EditList({ edits }: { edits: Edit[] }) {
  return (
    <Table size="small" aria-label="Edits" sx={{ '& td': { px: 0.5 } }}>
      <TableBody>
        {edits.map(({ what, before, after }) => (
          <TableRow key={what}>
            <TableCell>
              <Address>{what}</Address>
            </TableCell>
            <TableCell sx={{ overflowWrap: 'anywhere' }}>
              <Box component="span" sx={{ color: 'text.secondary' }}>
                {before}
              </Box>{' '}
              → <b>{after}</b>
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
