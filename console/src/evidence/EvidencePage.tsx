import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import LinearProgress from '@mui/material/LinearProgress';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, lists, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ComplianceTabs } from '../compliance/ComplianceTabs';
import { rateWords } from '../compliance/rate';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { exact } from '../words/time';
import { progressWords, questionWords, size } from './evidenceWords';
import { MakeDialog } from './MakeDialog';

type Evidence = Schemas['Evidence'];

/** How often it is asked how far evidence is that is being made. */
const EVERY_MS = 1_000;

/** Evidence: signed files that prove compliance as of any moment; making and fetching begin here. */
export function EvidencePage() {
  const [parameters, set] = useParameters();
  const list = useList('evidence', lists.evidence, {
    key: ['evidence'],
    prefix: 'list.',
    refetchInterval: (evidence) => ((evidence as Evidence[]).some(({ status }) => status === 'waiting') ? EVERY_MS : false),
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
            <Button variant="contained" disabled={!may.includes('evidence.make')} onClick={() => set({ make: 'yes' })}>
              Make…
            </Button>
            <CopiedCommand command={`constans evidence list${asArgument(list.filter)}`} />
          </Box>
        }
      >
        <ListView
          label="Evidence"
          nouns={['entry', 'entries']}
          list={list}
          columns={COLUMNS}
          keyOf={({ no }) => String(no)}
          example={'evidence.asked_by == "ilse.maren" && evidence.status == "made"'}
          empty={
            <Typography>
              None was asked for yet. Evidence is a file that says how every clause was on every node at a moment, and that nobody altered since:{' '}
              <Address>constans evidence make</Address>
            </Typography>
          }
          actions={(evidence) => <Actions evidence={evidence} mayEnd={may.includes('people.manage') || evidence.asked_by === session.data?.person} />}
        />
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

const COLUMNS: Column<Evidence>[] = [
  { field: 'no', head: 'Evidence', text: ({ no }) => `E${no}`, cell: (evidence) => <Progress evidence={evidence} /> },
  { field: 'status', head: 'How far', text: progressWords, isHiddenFirst: true },
  { field: 'question', head: 'Of what', text: ({ question }) => questionWords(question) },
  { field: 'asked_by', head: 'Asked for by', text: ({ asked_by }) => asked_by },
  { field: 'asked', head: 'When', text: ({ asked }) => asked, cell: ({ asked }) => <Moment at={asked} /> },
  { field: 'because', head: 'Why', text: ({ because }) => because ?? '' },
  { field: 'nodes', head: 'Nodes without deviation', align: 'right', text: nodesWords },
  {
    field: 'rate',
    head: 'Clauses compliant',
    align: 'right',
    text: ({ figures }) => (figures ? rateWords(figures.rate_basis_points) : ''),
  },
  { field: 'sha256', head: 'SHA-256', text: ({ sha256 }) => sha256 ?? '', isHiddenFirst: true },
];

function nodesWords({ figures }: Evidence): string {
  const nodes = figures?.counted.nodes;
  return nodes ? `${nodes.without_deviation} of ${nodes.without_deviation + nodes.with_deviation + nodes.not_known + nodes.conceded}` : '';
}

function Progress({ evidence }: { evidence: Evidence }) {
  const { no, status, done, total } = evidence;
  return (
    <>
      E{no}
      <Box role="status" sx={{ color: status === 'failed' ? 'error.main' : 'text.secondary', fontSize: 13 }}>
        {progressWords(evidence)}
      </Box>
      {status === 'waiting' && total > 0 && (
        <LinearProgress aria-label={`E${no}`} variant="determinate" value={Math.floor((100 * done) / total)} sx={{ mt: 0.5 }} />
      )}
    </>
  );
}

function Actions({ evidence, mayEnd }: { evidence: Evidence; mayEnd: boolean }) {
  const { no, status, bytes, kept_until, key } = evidence;
  if (status === 'waiting') return mayEnd && <End evidence={evidence} word="stop" />;
  if (status !== 'made') return null;
  return (
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
