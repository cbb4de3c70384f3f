import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { asArgument } from '../lists/filter';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { PropertyList } from '../looks/PropertyList';
import { StatusWord } from '../looks/StatusWord';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { write, writeFirst } from '../words/sentence';
import { clock, clockOff, exact } from '../words/time';
import { useNow } from '../words/useNow';
import { count } from '../words/words';
import { ClauseTable } from './ClauseTable';
import { DriftLanes } from './DriftLanes';
import { GivenCard } from './GivenCard';
import { LeftBehindList } from './LeftBehindList';
import { NodeActions } from './NodeActions';
import { NodeCompliance } from './NodeCompliance';
import { Origins } from './Origins';
import { RunList } from './RunList';

/** One node: its state in one sentence, its clauses, drift over time, runs, and the sources of its desired state. */
export function NodePage() {
  const { name = '' } = useParams();
  const node = useQuery({ queryKey: ['node', name], queryFn: ({ signal }) => api.node(name, signal) });
  return (
    <Page title={name} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/nodes">
          Nodes
        </Link>{' '}
        / {name}
      </Typography>
      <QueryView query={node}>{(node) => <NodeParts node={node} />}</QueryView>
    </Page>
  );
}

function NodeParts({ node }: { node: Schemas['NodeSummary'] }) {
  const name = node.name;
  const clauses = useQuery({ queryKey: ['node', name, 'clauses'], queryFn: ({ signal }) => api.clauses(name, signal) });
  const episodes = useQuery({ queryKey: ['node', name, 'episodes'], queryFn: ({ signal }) => api.episodes(name, signal) });
  const left = useQuery({ queryKey: ['node', name, 'left'], queryFn: ({ signal }) => api.leftBehind(name, signal) });
  const compliance = useQuery({
    queryKey: ['node', name, 'compliance'],
    queryFn: ({ signal }) => api.compliance({ by: 'control', filter: nameFilter(name) }, signal),
  });
  const layers = useQuery({ queryKey: ['node', name, 'layers'], queryFn: ({ signal }) => api.layers(name, signal) });
  const sources = useQuery({ queryKey: ['node', name, 'sources'], queryFn: ({ signal }) => api.why(name, signal) });
  return (
    <>
      <NodeHead node={node} />
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 13fr) minmax(0, 7fr)' }, alignItems: 'start' }}>
        <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
          <Card title="Clauses">
            <QueryView query={clauses}>{(clauses) => <ClauseTable node={name} clauses={clauses} />}</QueryView>
          </Card>
          <Card title="Compliance" aside={<CopiedCommand command={`constans compliance --by control${asArgument(nameFilter(name))}`} />}>
            <QueryView query={compliance}>{(compliance) => <NodeCompliance compliance={compliance} />}</QueryView>
          </Card>
          <Card title="Drift">
            <QueryView query={episodes}>{(episodes) => <DriftLanes node={name} episodes={episodes} />}</QueryView>
          </Card>
          <Card title="Left behind">
            <QueryView query={left}>{(left) => <LeftBehindList left={left} />}</QueryView>
          </Card>
        </Box>
        <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
          <Card title="Runs" aside={<CopiedCommand command={`constans run list ${name}`} />}>
            <RunList node={name} />
          </Card>
          <Card title="Desired state and its sources" aside={<CopiedCommand command={`constans node why ${name}`} />}>
            <QueryView query={sources}>{(sources) => <Origins sources={sources} layers={layers.data} />}</QueryView>
          </Card>
          <GivenCard name={name} parameters={Object.keys(sources.data?.parameters ?? {})} clauses={clauses.data?.clauses ?? []} />
          <Card title="About">
            <AboutList node={node} />
          </Card>
        </Box>
      </Box>
    </>
  );
}

function nameFilter(name: string): string {
  return `node.name == ${JSON.stringify(name)}`;
}

/** The node's state in one sentence. */
function nodeSentence({ words, open_episodes, mode, can_be_woken }: Schemas['NodeSummary'], now: number): string {
  const releases = words.releases.length > 0 ? `; ${write(words.releases, now)}` : '';
  const drift = open_episodes ? `; ${count(open_episodes, 'clause')} drifted and not corrected` : '';
  return `${write(words.status, now)}${releases}${drift}. Mode ${mode ?? 'observe'}; ${write(words.contact, now)}; ${can_be_woken ? 'can be woken' : 'cannot be woken between its check-ins'}.`;
}

function NodeHead({ node }: { node: Schemas['NodeSummary'] }) {
  const now = useNow();
  const pending = node.restart_pending;
  return (
    <Box sx={{ mb: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', columnGap: 2, alignItems: 'center' }}>
        <Typography variant="h1">{node.name}</Typography>
        <StatusWord status={node.status} late={node.last_contact === 'late'} />
        <Box sx={{ flex: 1 }} />
        <NodeActions name={node.name} />
        <CopiedCommand command={`constans node show ${node.name}`} />
      </Box>
      <Typography sx={{ '&::first-letter': { textTransform: 'uppercase' } }}>{nodeSentence(node, now)}</Typography>
      {node.changed_by && (
        <Typography sx={{ color: 'text.secondary' }}>
          Changed by{' '}
          <Link component={RouterLink} to={changeAddress(node.changed_by.no)}>
            C{node.changed_by.no}
          </Link>
          , {node.changed_by.who}
          {node.changed_by.because && `: “${node.changed_by.because}”`}, {clock(node.changed_by.at)} ({node.changed_by.what})
        </Typography>
      )}
      {(node.freezes ?? []).map((freeze) => (
        <Alert key={freeze.no} severity="info" variant="outlined" sx={{ mt: 1 }}>
          Frozen by F{freeze.no} until {exact(freeze.until)}: {freeze.because}. Nothing is corrected of{' '}
          {freeze.clauses?.length ? freeze.clauses.join(', ') : 'all clauses'}.
        </Alert>
      ))}
      {pending && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 1 }}>
          Restart pending since {exact(pending.since)}: {pending.because.join(', ')}
        </Alert>
      )}
      {node.agent_upgrade && ['under_way', 'waiting'].includes(node.agent_upgrade.state) && (
        <Alert severity="info" variant="outlined" sx={{ mt: 1 }}>
          Upgrade of the agent {node.agent_upgrade.state === 'waiting' ? 'waits' : 'under way'}, to {node.agent_upgrade.to}
          {node.agent_upgrade.why && `: ${node.agent_upgrade.why}`}
        </Alert>
      )}
      {node.words.problems.map(({ message, remedy }) => (
        <Alert key={remedy} severity="warning" variant="outlined" sx={{ mt: 1 }}>
          {writeFirst(message, now)}. <Address>{remedy}</Address>
        </Alert>
      ))}
    </Box>
  );
}

function AboutList({ node }: { node: Schemas['NodeSummary'] }) {
  const now = useNow();
  const properties: [string, string][] = [
    ...Object.entries(node.about as Record<string, unknown>).map(([field, value]): [string, string] => [field, String(value)]),
    ...Object.entries(node.labels).map(([label, value]): [string, string] => [`label ${label}`, value]),
    ['last contact', write(node.words.contact, now)],
    ['certificate until', node.certificate_ends ? new Date(node.certificate_ends).toLocaleDateString('en-GB', { dateStyle: 'medium' }) : '–'],
    ['clock', node.clock_off_secs ? clockOff(node.clock_off_secs) : 'in step with the server'],
    ['NodeId', node.id],
  ];
  return <PropertyList properties={properties} />;
}
