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
import { SinceBefore } from './SinceBefore';

/** One run: what started it, totals, and for each clause desired and actual values and what was done. */
export function RunPage() {
  const { name = '', run: id = '' } = useParams();
  const run = useQuery({ queryKey: ['run', name, id], queryFn: ({ signal }) => api.run(name, id, signal), refetchInterval: false });
  return (
    <Page title={`Run of ${name}`} hasOwnHeading>
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
      <QueryView query={run}>{(run) => <RunParts node={name} run={run} />}</QueryView>
    </Page>
  );
}

function RunParts({ node, run }: { node: string; run: Schemas['ShownRun'] }) {
  const [parameters, setParameters] = useSearchParams();
  const chosen = parameters.get('clause');
  const showsAll = parameters.has('all');
  const all = run.clauses.map((clause, at) => ({ clause, words: run.words.clauses[at] }));
  const shown = all.filter(({ clause, words }) => showsAll || !words?.is_quiet || clause.address === chosen);
  const hidden = all.length - shown.length;
  return (
    <>
      <RunHead node={node} report={run} />
      <SinceBefore node={node} run={run.run} />
      {run.package_preview && <PackagesAhead preview={run.package_preview} changes={run.words.packages ?? []} />}
      <Box sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 2 }}>
        {shown.map(({ clause, words }) => words && <ClauseReport key={clause.address} clause={clause} words={words} isChosen={clause.address === chosen} />)}
      </Box>
      {(hidden > 0 || showsAll) && (
        <Button variant="text" sx={{ mt: 1 }} onClick={() => setParameters(showsAll ? {} : { all: '' }, { replace: true })}>
          {showsAll ? 'Show only clauses that need attention' : `${count(hidden, 'clause is', 'clauses are')} in line: show all`}
        </Button>
      )}
    </>
  );
}

function runTotals({ clauses, took_us, words }: Schemas['ShownRun']): string {
  const counts = words.totals && `: ${words.totals}`;
  return `${count(clauses.length, 'clause')} in ${took(took_us)}${counts}${words.part ? `; ${words.part}` : ''}`;
}

function RunHead({ node, report }: { node: string; report: Schemas['ShownRun'] }) {
  const { words } = report;
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
          {words.did_not_end ? `${words.did_not_end}: the agent was killed or the machine stopped` : runTotals(report)}.
        </Typography>
        <Typography sx={{ color: 'text.secondary' }}>
          Began {exact(report.began)} by the clock of the node, started by {startedBy(report.started_by)}
          {report.reason && ` (${report.reason})`}. Desired state {releases}
          {report.wanted.generation && `, generation ${report.wanted.generation}`}; agent {report.agent}
          {report.root && `, in the private root ${report.root}`}.
        </Typography>
        {report.repeats && (
          <Typography sx={{ color: 'text.secondary' }}>
            Found again by {count(report.repeats.count, 'later run')}, the last at {exact(report.repeats.last)}.
          </Typography>
        )}
        {words.left_out && <Typography sx={{ color: 'warning.main' }}>{words.left_out}</Typography>}
      </Card>
    </Box>
  );
}
