import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import LinearProgress from '@mui/material/LinearProgress';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../changes/ConfirmDialog';
import { ComplianceTabs } from '../compliance/ComplianceTabs';
import { rateWords } from '../compliance/rate';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Unseen } from '../looks/Unseen';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { progressWords, questionWords, size } from './evidenceWords';
import { MakeDialog } from './MakeDialog';

type Evidence = Schemas['Evidence'];

/** How often it is asked how far evidence is that is being made. */
const EVERY_MS = 1_000;

/** Evidence: signed files that prove compliance as of any moment; making and fetching begin here. */
export function EvidencePage() {
  const [parameters, set] = useParameters();
  const evidence = useQuery({
    queryKey: ['evidence'],
    queryFn: ({ signal }) => api.evidence(signal),
    refetchInterval: ({ state }) => (state.data?.some(({ status }) => status === 'waiting') ? EVERY_MS : false),
  });
  const chain = useQuery({ queryKey: ['evidence', 'chain'], queryFn: ({ signal }) => api.evidenceChain(signal) });
  const session = useQuery(sessionQuery);
  const may = session.data?.permissions ?? [];
  return (
    <Page title="Evidence" heading={<ComplianceTabs />}>
      <Card
        title="Evidence: signed files that prove compliance"
        aside={
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
            {may.includes('evidence.make') && (
              <Button variant="contained" onClick={() => set({ make: 'yes' })}>
                Make…
              </Button>
            )}
            <CopiedCommand command="constans evidence list" />
          </Box>
        }
      >
        <QueryView query={evidence}>
          {(evidence) => <EvidenceTable evidence={evidence} person={session.data?.person} mayEndAll={may.includes('people.manage')} />}
        </QueryView>
      </Card>
      <Box sx={{ mt: 3 }}>
        <Card title="The chain of days" aside={<CopiedCommand command="constans evidence check" />}>
          <QueryView query={chain}>{(chain) => <Chain chain={chain} />}</QueryView>
        </Card>
      </Box>
      {parameters.has('make') && (
        <MakeDialog
          asOf={parameters.get('as_of') ?? ''}
          filter={parameters.get('filter') ?? ''}
          control={parameters.get('control') ?? ''}
          onClose={() => set({ make: null, as_of: null, filter: null, control: null })}
        />
      )}
    </Page>
  );
}

function EvidenceTable({ evidence, person, mayEndAll }: { evidence: Evidence[]; person?: string; mayEndAll: boolean }) {
  if (evidence.length === 0) {
    return (
      <Typography>
        None was asked for yet. Evidence is a file that says how every clause was on every node at a moment, and that nobody altered since:{' '}
        <Address>constans evidence make</Address>
      </Typography>
    );
  }
  return (
    <Table size="small" aria-label="Evidence">
      <TableHead>
        <TableRow>
          <TableCell>
            <Unseen>Evidence</Unseen>
          </TableCell>
          <TableCell>Of what</TableCell>
          <TableCell>Asked for</TableCell>
          <TableCell align="right">Nodes without deviation</TableCell>
          <TableCell align="right">Clauses compliant</TableCell>
          <TableCell>
            <Unseen>Actions</Unseen>
          </TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {evidence.map((one) => (
          <EvidenceRow key={one.no} evidence={one} mayEnd={mayEndAll || one.asked_by === person} />
        ))}
      </TableBody>
    </Table>
  );
}

function EvidenceRow({ evidence, mayEnd }: { evidence: Evidence; mayEnd: boolean }) {
  const { no, status, figures, because, asked, asked_by, done, total, bytes, kept_until, key } = evidence;
  const isWaiting = status === 'waiting';
  const nodes = figures?.counted.nodes;
  return (
    <TableRow sx={{ '& td': { verticalAlign: 'top' } }}>
      <TableCell sx={{ whiteSpace: 'nowrap' }}>
        E{no}
        <Box role="status" sx={{ color: status === 'failed' ? 'error.main' : 'text.secondary', fontSize: 13, whiteSpace: 'normal' }}>
          {progressWords(evidence)}
        </Box>
        {isWaiting && total > 0 && <LinearProgress aria-label={`E${no}`} variant="determinate" value={Math.floor((100 * done) / total)} sx={{ mt: 0.5 }} />}
      </TableCell>
      <TableCell sx={{ overflowWrap: 'anywhere' }}>{questionWords(evidence.question)}</TableCell>
      <TableCell sx={{ fontSize: 13 }}>
        by {asked_by},{' '}
        <time dateTime={asked} title={exact(asked)}>
          {clock(asked)}
        </time>
        {because && `: “${because}”`}
      </TableCell>
      <TableCell align="right">
        {nodes && `${nodes.without_deviation} of ${nodes.without_deviation + nodes.with_deviation + nodes.not_known + nodes.conceded}`}
      </TableCell>
      <TableCell align="right">{figures && rateWords(figures.rate_basis_points)}</TableCell>
      <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
        {status === 'made' && (
          <>
            <Button
              size="small"
              variant="outlined"
              href={`/api/evidence/${no}/file`}
              download
              title={`signed by ${key}; kept until ${kept_until && exact(kept_until)}`}
            >
              Download {size(bytes ?? 0)}
            </Button>
            {mayEnd && <End evidence={evidence} word="remove" />}
          </>
        )}
        {isWaiting && mayEnd && <End evidence={evidence} word="stop" />}
      </TableCell>
    </TableRow>
  );
}

function End({ evidence: { no }, word }: { evidence: Evidence; word: 'stop' | 'remove' }) {
  const queries = useQueryClient();
  const end = useMutation({
    mutationFn: () => (word === 'stop' ? api.stopEvidence(no) : api.removeEvidence(no)),
    onSettled: () => queries.invalidateQueries({ queryKey: ['evidence'] }),
  });
  return (
    <>
      <Button size="small" disabled={end.isPending} onClick={() => end.mutate()} sx={{ ml: 1, textTransform: 'capitalize' }}>
        {word}
      </Button>
      {end.error && <Alert severity="error">{problemWords(end.error)}</Alert>}
    </>
  );
}

function Chain({ chain: { days, keys } }: { chain: Schemas['EvidenceChain'] }) {
  const last = days.at(-1);
  const signs = keys.at(-1);
  return (
    <Box sx={{ display: 'grid', gap: 1, overflowWrap: 'anywhere' }}>
      <Typography>
        What the server learns on a day has a digest, which covers the day before. Whoever noted one elsewhere can tell later that nothing learned until then
        was altered.
      </Typography>
      <Typography>
        {last ? (
          <>
            {days.length} days, the last one {last.day} with {last.rows} rows: <Address>{last.digest}</Address>
          </>
        ) : (
          'No day is chained yet: each is when it is over.'
        )}
      </Typography>
      {signs && (
        <Typography>
          Evidence is signed by <Address>{signs.id}</Address>, since {exact(signs.since)}
          {keys.length > 1 && `; ${keys.length - 1} before it, each endorsing the next`}
        </Typography>
      )}
    </Box>
  );
}
