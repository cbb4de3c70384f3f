import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { PropertyList } from '../looks/PropertyList';
import { took } from '../words/time';
import { AskDialog } from './AskDialog';
import { millis, nextWords } from './wakeWords';

/** So often it is looked how far it is. */
const EVERY = 500;

const SEEN = { alike: 'is in line', different: 'is not in line', unseen: 'could not be inspected' };

/** Has a node tested, and shows each step. */
export function SelfTestDialog({ name, onClose }: { name: string; onClose: () => void }) {
  return (
    <AskDialog
      title={`Self-test of ${name}`}
      what="The node checks in, fetches a small state that is made up for this test, compares it with its machine and reports. Nothing on it is altered, and it needs no desired state."
      action="Test now"
      ask={() => api.selfTest({ node: name })}
      progress={(test) => <Steps asked={test} />}
      command={({ no }) => `constans selftest --test T${no}`}
      onClose={onClose}
    />
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
