import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useParams, useSearchParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { StatusWord } from '../looks/StatusWord';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { exact, took } from '../words/time';
import { count, startedBy } from '../words/words';
import { ClauseReport } from './ClauseReport';
import { PackagesAhead } from './PackagesAhead';
import { isQuiet, totals } from './totals';

/** One run: what started it, totals, and for each clause desired and actual values and what was done. */
export function RunPage() {
  const { name = '', run: id = '' } = useParams();
  const run = useQuery({ queryKey: ['run', name, id], queryFn: ({ signal }) => api.run(name, id, signal), staleTime: Infinity, refetchInterval: false });
  return (
    <Page title={`Run of ${name}`} heading={null}>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/nodes">
          Nodes
        </Link>{' '}
        /{' '}
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(name)}`}>
          {name}
        </Link>{' '}
        / run
      </Typography>
      <QueryView query={run}>{(report) => <RunParts node={name} report={report} />}</QueryView>
    </Page>
  );
}

function RunParts({ node, report }: { node: string; report: Schemas['RunReport'] }) {
  const [parameters, setParameters] = useSearchParams();
  const chosen = parameters.get('clause');
  const showsAll = parameters.has('all');
  const shown = report.clauses.filter((clause) => showsAll || !isQuiet(clause) || clause.address === chosen);
  const hidden = report.clauses.length - shown.length;
  return (
    <>
      <RunHead node={node} report={report} />
      {report.package_preview && <PackagesAhead preview={report.package_preview} />}
      <Box sx={{ display: 'grid', gap: 2 }}>
        {shown.map((clause) => (
          <ClauseReport key={clause.address} clause={clause} isChosen={clause.address === chosen} />
        ))}
      </Box>
      {(hidden > 0 || showsAll) && (
        <Button variant="text" sx={{ mt: 1 }} onClick={() => setParameters(showsAll ? {} : { all: '' }, { replace: true })}>
          {showsAll ? 'Show only clauses that need attention' : `${count(hidden, 'clause is', 'clauses are')} in line: show all`}
        </Button>
      )}
    </>
  );
}

/** The progress of an interrupted run. */
function didNotEnd({ reached, of, doing, address }: Schemas['DidNotEnd']) {
  const at = doing && address ? `, ${doing} ${address}` : '';
  return `Interrupted: the agent was killed or the machine stopped after ${reached} of ${count(of, 'clause')}${at}`;
}

/** What a partial run left out. */
function partWords(part?: Schemas['PartOf'] | null) {
  if (!part) return '; partial';
  const out = part.known_out_of_line > 0 ? `, ${part.known_out_of_line} of them known to be out of line` : '';
  return `; partial: ${count(part.left_out, 'clause')} left out${out}`;
}

/** What was left out of a report that exceeded a limit. */
function leftOut({ clauses, entries, cut, details }: Schemas['LeftOut']) {
  const parts = [
    clauses && count(clauses, 'clause'),
    entries && `${count(entries, 'entry', 'entries')} of clauses`,
    cut && `the end of ${count(cut, 'text')}`,
    details && 'all details, because the node exceeded its daily limit',
  ];
  return `Left out of this report: ${parts.filter(Boolean).join(', ')}.`;
}

function RunHead({ node, report }: { node: string; report: Schemas['RunReport'] }) {
  const releases = report.wanted.releases.map(({ release }) => release).join(' ') || 'nothing';
  return (
    <Box sx={{ mb: 2 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', mb: 0.5 }}>
        <Typography variant="h1">Run of {node}</Typography>
        <StatusWord status={report.status} />
        <Box sx={{ flex: 1 }} />
        <CopiedCommand command={`constans run show ${node} ${report.run}`} />
      </Box>
      <Card>
        <Typography>
          {report.mode === 'observe' ? 'Mode observe: nothing was changed. ' : 'Mode enforce. '}
          {report.did_not_end ? didNotEnd(report.did_not_end) : `${totals(report)} in ${took(report.took_us)}${report.partial ? partWords(report.part) : ''}`}.
        </Typography>
        <Typography sx={{ color: 'text.secondary' }}>
          Began {exact(report.began)} by the clock of the node, started by {startedBy(report.started_by)}
          {report.reason && ` (${report.reason})`}. Desired state {releases}
          {report.wanted.generation && `, generation ${report.wanted.generation}`}; agent {report.agent}
          {report.root && `, in the private root ${report.root}`}.
        </Typography>
        {report.left_out && <Typography sx={{ color: 'warning.main' }}>{leftOut(report.left_out)}</Typography>}
      </Card>
    </Box>
  );
}
