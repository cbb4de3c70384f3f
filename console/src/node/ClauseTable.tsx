import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { Fragment } from 'react';
import { Link as RouterLink, useSearchParams } from 'react-router';
import type { Schemas } from '../api/client';
import { askAddress } from '../concessions/concessionWords';
import { acceptAddress } from '../drift/acceptAddress';
import { Address } from '../looks/Address';
import { StatusWord } from '../looks/StatusWord';
import { clock, exact } from '../words/time';
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
      <Table size="small" aria-label="Clauses">
        <TableHead>
          <TableRow>
            <TableCell>Clause</TableCell>
            <TableCell>As of the last full run</TableCell>
            <TableCell>Severity</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {shown.map((clause) => (
            <Fragment key={clause.address}>
              <ClauseRow clause={clause} isOpen={clause.address === open} onOpen={() => set('clause', clause.address === open ? null : clause.address)} />
              {clause.address === open && (
                <TableRow>
                  <TableCell colSpan={3} sx={{ bgcolor: 'sunken', pl: 2 }}>
                    <WantedProperties wanted={clause.wanted} />
                    {run && (
                      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}/runs/${run}?clause=${encodeURIComponent(clause.address)}`}>
                        Result in the run
                      </Link>
                    )}
                    {!isQuiet(clause) && (clause.conceded_by ?? []).length === 0 && (
                      <>
                        <Link component={RouterLink} to={acceptAddress(node, clause.address)} sx={{ ml: 2 }}>
                          Accept what was found…
                        </Link>
                        <Link component={RouterLink} to={askAddress(node, clause.address)} sx={{ ml: 2 }}>
                          Ask for a concession
                        </Link>
                      </>
                    )}
                  </TableCell>
                </TableRow>
              )}
            </Fragment>
          ))}
        </TableBody>
      </Table>
      {(hidden > 0 || showsAll) && loud.length > 0 && (
        <Button variant="text" sx={{ mt: 1, px: 0 }} onClick={() => set('all', showsAll ? null : '')}>
          {showsAll ? 'Show only clauses that are not in line' : `${count(hidden, 'clause is', 'clauses are')} in line: show all`}
        </Button>
      )}
    </>
  );
}

function ClauseRow({ clause, isOpen, onOpen }: { clause: Clause; isOpen: boolean; onOpen: () => void }) {
  return (
    <TableRow>
      <TableCell>
        <Link component="button" onClick={onOpen} aria-expanded={isOpen} sx={{ textAlign: 'left', verticalAlign: 'baseline' }}>
          <Address>{clause.address}</Address>
        </Link>
        <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{clause.origins.join(', ')}</Box>
      </TableCell>
      <TableCell>
        <StatusWord status={clause.status} word={outcomeWords(clause.outcome) + (clause.cause === 'drift' ? ', drift' : '')} />
        {clause.reason && (
          <Box sx={{ color: 'text.secondary', fontSize: 13, overflowWrap: 'anywhere' }}>
            {clause.reason}
            {clause.since && (
              <>
                , since{' '}
                <time dateTime={clause.since} title={exact(clause.since)}>
                  {clock(clause.since)}
                </time>
              </>
            )}
          </Box>
        )}
        {(clause.conceded_by ?? []).map((by) => (
          <Box key={by.no} sx={{ fontSize: 13, overflowWrap: 'anywhere' }}>
            may deviate until <time title={exact(by.until)}>{clock(by.until)}</time> by{' '}
            <Link component={RouterLink} to="/compliance/concessions">
              D{by.no}
            </Link>
            : “{by.because}”
          </Box>
        ))}
      </TableCell>
      <TableCell>{clause.severity}</TableCell>
    </TableRow>
  );
}
