import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import FormControlLabel from '@mui/material/FormControlLabel';
import Switch from '@mui/material/Switch';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { lists, type Schemas } from '../api/client';
import { ComplianceTabs } from '../compliance/ComplianceTabs';
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
import { mayOn, sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { AskDialog } from './AskDialog';
import { coverageWords, placeWords, statusWords } from './concessionWords';
import { type Decision, DecisionDialog } from './DecisionDialog';

type Concession = Schemas['Concession'];

/** Approved deviations: for what, where, why, by whom, until when. Asking and deciding begin here. */
export function ConcessionsPage() {
  const [parameters, set] = useParameters();
  const alsoOver = parameters.has('also_over');
  const list = useList('concession', lists.concessions(alsoOver), { key: ['concessions', alsoOver] });
  const [asks, setAsks] = useState<{ concession: Concession; decision: Decision }>();
  const session = useQuery(sessionQuery);
  // Whether a role for one group has the nodes of one is the server's to say.
  const may = mayOn(session.data);
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
            <Button variant="contained" disabled={!may.includes('concession.ask')} onClick={() => set({ ask: 'yes' })}>
              Ask for one…
            </Button>
            <CopiedCommand command={`constans concession list${alsoOver ? ' --also-over' : ''}${asArgument(list.filter)}`} />
          </Box>
        }
      >
        {session.data && !may.includes('concession.ask') && (
          <Typography sx={{ color: 'text.secondary', mb: 1 }}>Operators, publishers, approvers and administrators ask for one; approvers decide.</Typography>
        )}
        <ListView
          label="Concessions"
          nouns={['concession', 'concessions']}
          list={list}
          columns={COLUMNS}
          keyOf={({ no }) => String(no)}
          example={'concession.asked_by == "ilse.maren" && concession.until < "2027-01-01"'}
          empty={
            <Typography>
              None waits or is in force. A concession lets clauses deviate until a day, with a reason and a second person:{' '}
              <Address>constans concession ask</Address>
            </Typography>
          }
          actions={(concession) =>
            decisions(concession, session.data?.person, may.includes('concession.decide')).map((decision) => (
              <Button key={decision} size="small" onClick={() => setAsks({ concession, decision })} sx={{ ml: 1, textTransform: 'capitalize' }}>
                {decision}…
              </Button>
            ))
          }
        />
      </Card>
      {asks && <DecisionDialog {...asks} onClose={() => setAsks(undefined)} />}
      {parameters.has('ask') && (
        <AskDialog node={parameters.get('node') ?? ''} clause={parameters.get('clause') ?? ''} onClose={() => set({ ask: null, node: null, clause: null })} />
      )}
    </Page>
  );
}

const COLUMNS: Column<Concession>[] = [
  { field: 'no', head: 'Concession', text: ({ no }) => `D${no}` },
  { field: 'status', head: 'How far', text: statusWords },
  {
    field: 'clauses',
    head: 'For what, where',
    text: ({ clauses }) => clauses.join(' '),
    cell: (concession) => (
      <>
        {concession.clauses.map((clause) => (
          <Box key={clause}>
            <Address>{clause}</Address>
          </Box>
        ))}
        <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{placeWords(concession)}</Box>
      </>
    ),
  },
  { field: 'asked_at', head: 'Asked, decided', text: ({ asked }) => asked.at, cell: (concession) => <Acts concession={concession} /> },
  { field: 'asked_by', head: 'Asked by', text: ({ asked }) => asked.who, isHiddenFirst: true },
  { field: 'because', head: 'Why', text: ({ asked }) => asked.because ?? '', isHiddenFirst: true },
  { field: 'until', head: 'Until', text: ({ until }) => until, cell: ({ until }) => <Moment at={until} />, isHiddenFirst: true },
  {
    field: 'noncompliant',
    head: 'Covers',
    text: (concession) => (isOpen(concession) ? coverageWords(concession).join('; ') : ''),
    cell: (concession) => isOpen(concession) && coverageWords(concession).map((words) => <Box key={words}>{words}</Box>),
  },
];

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
