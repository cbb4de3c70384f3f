import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useId } from 'react';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../changes/ConfirmDialog';
import { CopiedCommand } from '../looks/CopiedCommand';
import { PropertyList } from '../looks/PropertyList';
import { took } from '../words/time';
import { millis, nextWords } from './wakeWords';

/** So often it is looked how far it is. */
const EVERY = 500;

const SEEN = { alike: 'is in line', different: 'is not in line', unseen: 'could not be inspected' };

/** Has a node tested, and shows each step. It can be left: the node does it all the same. */
export function SelfTestDialog({ name, onClose }: { name: string; onClose: () => void }) {
  const id = useId();
  const asking = useMutation({ mutationFn: () => api.selfTest({ node: name }) });
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby={id}>
      <DialogTitle id={id}>Self-test of {name}</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        {asking.data ? (
          <Steps asked={asking.data} />
        ) : (
          <Typography>
            The node checks in, fetches a small state that is made up for this test, compares it with its machine and reports. Nothing on it is altered, and it
            needs no desired state.
          </Typography>
        )}
        {asking.error && <Alert severity="error">{problemWords(asking.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        {asking.data && <CopiedCommand command={`constans selftest --test T${asking.data.no}`} />}
        <Box sx={{ flex: 1 }} />
        <Button variant="text" onClick={onClose}>
          {asking.data ? 'Close' : 'Cancel'}
        </Button>
        {!asking.data && (
          <Button variant="contained" disabled={asking.isPending} onClick={() => asking.mutate()}>
            Test now
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}

function Steps({ asked }: { asked: Schemas['SelfTest'] }) {
  const every = ({ state }: { state: { data?: Schemas['SelfTest'] } }) => (state.data?.reported_at ? false : EVERY);
  const shown = useQuery({
    queryKey: ['self-test', asked.no],
    queryFn: ({ signal }) => api.selfTestShown(asked.no, signal),
    initialData: asked,
    refetchInterval: every,
  });
  const test = shown.data;
  const after = (at?: string | null) => (at ? `after ${millis(Date.parse(at) - Date.parse(test.asked_at))}` : 'not yet');
  const rows: [string, string][] = [
    ['Asked', test.was_waiting ? 'woken: the server holds a request of the node' : `cannot be woken; it ${nextWords(test.next_check_in)}`],
    ['Checked in', after(test.offered_at)],
    ['Fetched', after(test.fetched_at)],
    ['Compared', comparedWords(test)],
    ['Reported', after(test.reported_at)],
  ];
  return (
    <>
      <Typography role="status" sx={{ fontWeight: 600 }}>
        T{test.no}: {test.is_proven ? 'proven: the node is asked, fetches, compares and reports' : test.reported_at ? 'not proven' : 'under way'}
      </Typography>
      <PropertyList properties={rows} />
    </>
  );
}

function comparedWords({ report, clauses }: Schemas['SelfTest']): string {
  if (!report) return 'not yet';
  if (report.failed) return `failed: ${report.failed}`;
  const words = (clauses ?? []).map(({ address, expected, seen }) => {
    if (!seen) return `${address} was not reported`;
    return seen === expected ? `${address} ${SEEN[seen]}, as it should be` : `${address} ${SEEN[seen]}; expected that it ${SEEN[expected]}`;
  });
  return `in ${took(report.compared_us)}: ${words.join('; ')}`;
}
