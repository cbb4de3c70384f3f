import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { lists, type Schemas } from '../api/client';
import { BulkBar } from '../lists/Bulk';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { mayOn, sessionQuery } from '../shell/session';
import { useNow } from '../words/useNow';
import { EndFreezeDialog, EndFreezesDialog, FreezeDialog } from './FreezeDialog';
import { freezeStatus, frozenClauses, frozenNodes, heldWords } from './freezeWords';

type Freeze = Schemas['FreezeShown'];

/** The freezes: what is left as it is, where, by whom, why and until when, and which nodes hold it. */
export function FreezesPage() {
  const session = useQuery(sessionQuery);
  const now = useNow();
  const [alsoOver, setAlsoOver] = useState(false);
  const [isNew, setNew] = useState(false);
  const [ended, setEnded] = useState<Freeze>();
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [areEnding, setEnding] = useState(false);
  const list = useList('freeze', lists.freezes(alsoOver), { key: ['freezes', 'list', alsoOver] });
  const mayFreezeAll = mayOn(session.data, []).includes('freeze.set');
  const mayFreeze = mayOn(session.data).includes('freeze.set');
  return (
    <Page title="Freezes">
      <Card
        title={alsoOver ? 'In force, and over' : 'In force'}
        aside={<CopiedCommand command={`constans freeze list${alsoOver ? ' --also-over' : ''}${asArgument(list.filter)}`} />}
      >
        <Typography sx={{ color: 'text.secondary' }}>
          A freeze leaves nodes as they are: what drifted is found and reported, and not corrected. Freeze some nodes from the list of nodes.
        </Typography>
        <FormControlLabel control={<Checkbox checked={alsoOver} onChange={(_, on) => setAlsoOver(on)} />} label="Also those that are over" />
        <Button variant="outlined" disabled={!mayFreezeAll} onClick={() => setNew(true)}>
          Freeze all nodes…
        </Button>
        {!mayFreeze && <Typography sx={{ color: 'text.secondary' }}>Operators, approvers and administrators set and end freezes.</Typography>}
        <BulkBar nouns={['freeze', 'freezes']} selected={selected} onSelected={setSelected} done="ended">
          <Button variant="outlined" size="small" onClick={() => setEnding(true)}>
            End them…
          </Button>
        </BulkBar>
        <ListView
          label="Freezes"
          nouns={['freeze', 'freezes']}
          list={list}
          columns={columnsAt(now)}
          keyOf={({ no }) => String(no)}
          example={'freeze.who == "ilse.maren" || freeze.is_for_all'}
          empty={<Typography sx={{ mt: 1 }}>No freeze is in force: everything is corrected as mode, switches and change windows say.</Typography>}
          selection={{ selected, onSelected: setSelected, label: ({ no }) => `F${no}`, isDisabled: !mayFreeze }}
          actions={(freeze) =>
            !freeze.ended &&
            Date.parse(freeze.until) > now && (
              <Button variant="text" size="small" disabled={!mayFreeze} onClick={() => setEnded(freeze)} aria-label={`End… F${freeze.no}`}>
                End…
              </Button>
            )
          }
        />
      </Card>
      {isNew && <FreezeDialog names={[]} onClose={() => setNew(false)} />}
      {areEnding && (
        <EndFreezesDialog
          numbers={[...selected].map(Number)}
          onClose={() => {
            setEnding(false);
            setSelected(new Set());
          }}
        />
      )}
      {ended && <EndFreezeDialog freeze={ended} onClose={() => setEnded(undefined)} />}
    </Page>
  );
}

function columnsAt(now: number): Column<Freeze>[] {
  return [
    { field: 'no', head: 'Freeze', text: ({ no }) => `F${no}` },
    {
      field: 'of',
      head: 'Nodes',
      text: frozenNodes,
      cell: (freeze) => (
        <>
          {frozenNodes(freeze)}
          <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>{heldWords(freeze)}</Typography>
        </>
      ),
    },
    {
      field: 'clauses',
      head: 'Clauses',
      text: (freeze) => (freeze.clauses.length > 0 ? freeze.clauses.join(' ') : frozenClauses(freeze)),
      cell: (freeze) => <Clauses freeze={freeze} />,
    },
    { field: 'until', head: 'Until', text: ({ until }) => until, cell: (freeze) => freezeStatus(freeze, now) },
    { field: 'who', head: 'By whom', text: ({ who }) => who },
    { field: 'because', head: 'Why', text: ({ because }) => because },
    { field: 'set', head: 'Set', text: ({ set }) => set, cell: ({ set }) => <Moment at={set} />, isHiddenFirst: true },
  ];
}

function Clauses({ freeze }: { freeze: Freeze }) {
  return (
    <>
      {freeze.clauses.length > 0 ? <Address>{freeze.clauses.join('  ')}</Address> : frozenClauses(freeze)}
      {freeze.unknown_clauses?.map((unknown) => (
        <Typography key={unknown} sx={{ fontSize: 14, color: 'text.secondary' }}>
          No node has a clause {unknown}.
        </Typography>
      ))}
    </>
  );
}
