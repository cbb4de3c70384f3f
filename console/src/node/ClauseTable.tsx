import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink, useSearchParams } from 'react-router';
import type { Schemas } from '../api/client';
import { askAddress } from '../concessions/concessionWords';
import { acceptAddress } from '../drift/acceptAddress';
import { type WholeColumn, WholeTable } from '../lists/WholeTable';
import { Address } from '../looks/Address';
import { Moment } from '../looks/Moment';
import { StatusWord } from '../looks/StatusWord';
import { RunNowButton } from '../sweeps/RunNowButton';
import { count, outcomeWords } from '../words/words';
import { WantedProperties } from './WantedProperties';

type Clause = Schemas['NodeClause'];

const isQuiet = (clause: Clause) => clause.outcome === 'in_line' || clause.outcome === 'idle';

/** The clauses of a node as of its last full run, those not in line first; the address names the open one. */
export function ClauseTable({ node, clauses: { clauses, run, state } }: { node: string; clauses: Schemas['NodeClauses'] }) {
  const [parameters, setParameters] = useSearchParams();
  const open = parameters.get('clause');
  const showsAll = parameters.has('all');
  if (!state) {
    return (
      <Typography>
        No full run yet. To start one on the node: <Address>constans-agent daemon --once</Address>
      </Typography>
    );
  }
  if (clauses.length === 0) {
    return (
      <Typography>
        No desired state yet. Assign a baseline to one of the groups of this node: <Address>constans group set FILE</Address>
      </Typography>
    );
  }
  const loud = clauses.filter((clause) => !isQuiet(clause));
  const quiet = clauses.filter(isQuiet);
  const shown = showsAll || loud.length === 0 ? [...loud, ...quiet] : [...loud, ...quiet.filter((clause) => clause.address === open)];
  const hidden = clauses.length - shown.length;
  const set = (name: string, value: string | null) => {
    const next = new URLSearchParams(parameters);
    if (value === null) next.delete(name);
    else next.set(name, value);
    setParameters(next, { replace: true });
  };
  return (
    <>
      <WholeTable
        label="Clauses"
        name="clauses"
        columns={columnsOf(open, (address) => set('clause', address === open ? null : address))}
        rows={shown}
        keyOf={({ address }) => address}
        below={(clause) => clause.address === open && <Opened node={node} clause={clause} run={run ?? undefined} />}
      />
      {(hidden > 0 || showsAll) && loud.length > 0 && (
        <Button variant="text" sx={{ mt: 1, px: 0 }} onClick={() => set('all', showsAll ? null : '')}>
          {showsAll ? 'Show only clauses that are not in line' : `${count(hidden, 'clause is', 'clauses are')} in line: show all`}
        </Button>
      )}
    </>
  );
}

const SEVERITIES = ['critical', 'high', 'medium', 'low'];

function columnsOf(open: string | null, onOpen: (address: string) => void): WholeColumn<Clause>[] {
  return [
    {
      field: 'address',
      head: 'Clause',
      text: ({ address }) => address,
      cell: ({ address, origins }) => (
        <>
          <Link component="button" onClick={() => onOpen(address)} aria-expanded={address === open} sx={{ textAlign: 'left', verticalAlign: 'baseline' }}>
            <Address>{address}</Address>
          </Link>
          <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{origins.join(', ')}</Box>
        </>
      ),
      order: ({ address }) => address,
    },
    { field: 'outcome', head: 'As of the last full run', text: outcomeText, cell: (clause) => <Outcome clause={clause} />, order: outcomeText },
    { field: 'severity', head: 'Severity', text: ({ severity }) => severity, order: ({ severity }) => SEVERITIES.indexOf(severity) },
    { field: 'reason', head: 'Reason', text: ({ reason }) => reason ?? '', isHiddenFirst: true },
    {
      field: 'since',
      head: 'Since',
      text: ({ since }) => since ?? '',
      cell: ({ since }) => <Moment at={since} />,
      order: ({ since }) => since ?? '',
      isHiddenFirst: true,
    },
    { field: 'origins', head: 'From', text: ({ origins }) => origins.join(', '), order: ({ origins }) => origins.join(', '), isHiddenFirst: true },
  ];
}

function outcomeText({ outcome, cause }: Clause): string {
  return outcomeWords(outcome) + (cause === 'drift' ? ', drift' : '');
}

/** What an open clause desires, and where to go on from it. */
function Opened({ node, clause, run }: { node: string; clause: Clause; run?: string }) {
  return (
    <>
      <WantedProperties wanted={clause.wanted} />
      {run && (
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run}?clause=${encodeURIComponent(clause.address)}`}>
          Result in the run
        </Link>
      )}
      {!isQuiet(clause) && (clause.conceded_by ?? []).length === 0 && (
        <>
          <Box component="span" sx={{ ml: 2 }}>
            <RunNowButton nodes={[node]} where={node} part={{ clauses: [clause.address] }} correctOnce variant="text" />
          </Box>
          <Link component={RouterLink} to={acceptAddress(node, clause.address)} sx={{ ml: 2 }}>
            Accept what was found…
          </Link>
          <Link component={RouterLink} to={askAddress(node, clause.address)} sx={{ ml: 2 }}>
            Ask for a concession
          </Link>
        </>
      )}
    </>
  );
}

function Outcome({ clause }: { clause: Clause }) {
  return (
    <>
      <StatusWord status={clause.status} word={outcomeText(clause)} />
      {clause.reason && (
        <Box sx={{ color: 'text.secondary', fontSize: 13, overflowWrap: 'anywhere' }}>
          {clause.reason}
          {clause.since && (
            <>
              , since <Moment at={clause.since} />
            </>
          )}
        </Box>
      )}
      {(clause.conceded_by ?? []).map((by) => (
        <Box key={by.no} sx={{ fontSize: 13, overflowWrap: 'anywhere' }}>
          may deviate until <Moment at={by.until} /> by{' '}
          <Link component={RouterLink} to="/compliance/concessions">
            D{by.no}
          </Link>
          : “{by.because}”
        </Box>
      ))}
    </>
  );
}
