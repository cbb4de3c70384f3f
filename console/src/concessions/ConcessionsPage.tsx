import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControlLabel from '@mui/material/FormControlLabel';
import Switch from '@mui/material/Switch';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { ComplianceTabs } from '../compliance/ComplianceTabs';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Unseen } from '../looks/Unseen';
import { Wide } from '../looks/Wide';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { AskDialog } from './AskDialog';
import { coverageWords, placeWords, statusWords } from './concessionWords';
import { type Decision, DecisionDialog } from './DecisionDialog';

type Concession = Schemas['Concession'];

/** Approved deviations: for what, where, why, by whom, until when. Asking and deciding begin here. */
export function ConcessionsPage() {
  const [parameters, set] = useParameters();
  const alsoOver = parameters.has('also_over');
  const concessions = useQuery({ queryKey: ['concessions', alsoOver], queryFn: ({ signal }) => api.concessions(alsoOver, signal) });
  const session = useQuery(sessionQuery);
  const may = session.data?.permissions ?? [];
  return (
    <Page title="Concessions" heading={<ComplianceTabs />}>
      <Card
        title="Concessions: approved deviations"
        aside={
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
            <FormControlLabel
              control={<Switch size="small" checked={alsoOver} onChange={(_, on) => set({ also_over: on ? 'yes' : null })} />}
              label="also those that are over"
            />
            {may.includes('concession.ask') && (
              <Button variant="contained" onClick={() => set({ ask: 'yes' })}>
                Ask for one…
              </Button>
            )}
            <CopiedCommand command={`constans concession list${alsoOver ? ' --also-over' : ''}`} />
          </Box>
        }
      >
        <QueryView query={concessions}>
          {(concessions) => <ConcessionTable concessions={concessions} person={session.data?.person} mayDecide={may.includes('concession.decide')} />}
        </QueryView>
      </Card>
      {parameters.has('ask') && (
        <AskDialog node={parameters.get('node') ?? ''} clause={parameters.get('clause') ?? ''} onClose={() => set({ ask: null, node: null, clause: null })} />
      )}
    </Page>
  );
}

function ConcessionTable({ concessions, person, mayDecide }: { concessions: Concession[]; person?: string; mayDecide: boolean }) {
  const [asks, setAsks] = useState<{ concession: Concession; decision: Decision }>();
  if (concessions.length === 0) {
    return (
      <Typography>
        None waits or is in force. A concession lets clauses deviate until a day, with a reason and a second person: <Address>constans concession ask</Address>
      </Typography>
    );
  }
  return (
    <>
      <Wide>
        <Table size="small" aria-label="Concessions">
          <TableHead>
            <TableRow>
              <TableCell>
                <Unseen>Concession</Unseen>
              </TableCell>
              <TableCell>For what, where</TableCell>
              <TableCell>Asked, decided</TableCell>
              <TableCell>Covers</TableCell>
              <TableCell>
                <Unseen>Actions</Unseen>
              </TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {concessions.map((concession) => (
              <TableRow key={concession.no} sx={{ '& td': { verticalAlign: 'top' } }}>
                <TableCell sx={{ whiteSpace: 'nowrap' }}>
                  D{concession.no}
                  <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{statusWords(concession)}</Box>
                </TableCell>
                <TableCell sx={{ overflowWrap: 'anywhere' }}>
                  {concession.clauses.map((clause) => (
                    <Box key={clause}>
                      <Address>{clause}</Address>
                    </Box>
                  ))}
                  <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{placeWords(concession)}</Box>
                </TableCell>
                <TableCell>
                  <Acts concession={concession} />
                </TableCell>
                <TableCell sx={{ fontSize: 13 }}>{isOpen(concession) && coverageWords(concession).map((words) => <Box key={words}>{words}</Box>)}</TableCell>
                <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                  {decisions(concession, person, mayDecide).map((decision) => (
                    <Button key={decision} size="small" onClick={() => setAsks({ concession, decision })} sx={{ ml: 1, textTransform: 'capitalize' }}>
                      {decision}…
                    </Button>
                  ))}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Wide>
      {asks && <DecisionDialog {...asks} onClose={() => setAsks(undefined)} />}
    </>
  );
}

function isOpen({ status }: Concession): boolean {
  return status === 'asked' || status === 'in_force';
}

/** What this person may do with it; one's own only another person decides. */
function decisions(concession: Concession, person: string | undefined, mayDecide: boolean): Decision[] {
  const isOwn = concession.asked.who === person;
  if (concession.status === 'asked')
    return [...(mayDecide && !isOwn ? (['approve', 'refuse'] as const) : []), ...(isOwn || mayDecide ? (['withdraw'] as const) : [])];
  return concession.status === 'in_force' && (isOwn || mayDecide) ? ['end'] : [];
}

function Acts({ concession: { asked, decided, ended, status } }: { concession: Concession }) {
  const acts = [
    { word: 'asked for by', act: asked },
    { word: status === 'refused' ? 'refused by' : 'approved by', act: decided },
    { word: decided ? 'ended by' : 'withdrawn by', act: ended },
  ];
  return acts.map(
    ({ word, act }) =>
      act && (
        <Box key={word} sx={{ fontSize: 13 }}>
          {word} {act.who},{' '}
          <time dateTime={act.at} title={exact(act.at)}>
            {clock(act.at)}
          </time>
          {act.because && `: “${act.because}”`}
        </Box>
      ),
  );
}
