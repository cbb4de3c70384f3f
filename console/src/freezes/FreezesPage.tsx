import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import FormControlLabel from '@mui/material/FormControlLabel';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Unseen } from '../looks/Unseen';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { mayOn, sessionQuery } from '../shell/session';
import { useNow } from '../words/useNow';
import { EndFreezeDialog, FreezeDialog } from './FreezeDialog';
import { freezeStatus, frozenClauses, frozenNodes, heldWords } from './freezeWords';

type Freeze = Schemas['FreezeShown'];

/** The freezes: what is left as it is, where, by whom, why and until when, and which nodes hold it. */
export function FreezesPage() {
  const session = useQuery(sessionQuery);
  const [alsoOver, setAlsoOver] = useState(false);
  const [isNew, setNew] = useState(false);
  const [ended, setEnded] = useState<Freeze>();
  const freezes = useQuery({ queryKey: ['freezes', alsoOver], queryFn: ({ signal }) => api.freezes(alsoOver, signal) });
  const mayFreezeAll = mayOn(session.data, []).includes('freeze.set');
  const mayFreeze = mayOn(session.data).includes('freeze.set');
  return (
    <Page title="Freezes">
      <Card title={alsoOver ? 'In force, and over' : 'In force'} aside={<CopiedCommand command={`constans freeze list${alsoOver ? ' --also-over' : ''}`} />}>
        <Typography sx={{ color: 'text.secondary' }}>
          A freeze leaves nodes as they are: what drifted is found and reported, and not corrected. Freeze some nodes from the list of nodes.
        </Typography>
        <FormControlLabel control={<Checkbox checked={alsoOver} onChange={(_, on) => setAlsoOver(on)} />} label="Also those that are over" />
        <Button variant="outlined" disabled={!mayFreezeAll} onClick={() => setNew(true)}>
          Freeze all nodes…
        </Button>
        {!mayFreeze && <Typography sx={{ color: 'text.secondary' }}>Operators, approvers and administrators set and end freezes.</Typography>}
        <QueryView query={freezes}>{(freezes) => <FreezeTable freezes={freezes} mayFreeze={mayFreeze} onEnd={setEnded} />}</QueryView>
      </Card>
      {isNew && <FreezeDialog names={[]} onClose={() => setNew(false)} />}
      {ended && <EndFreezeDialog freeze={ended} onClose={() => setEnded(undefined)} />}
    </Page>
  );
}

function FreezeTable({ freezes, mayFreeze, onEnd }: { freezes: Freeze[]; mayFreeze: boolean; onEnd: (freeze: Freeze) => void }) {
  const now = useNow();
  if (freezes.length === 0)
    return <Typography sx={{ mt: 1 }}>No freeze is in force: everything is corrected as mode, switches and change windows say.</Typography>;
  return (
    <Table size="small" aria-label="Freezes">
      <TableHead>
        <TableRow>
          <TableCell>Freeze</TableCell>
          <TableCell>Nodes</TableCell>
          <TableCell>Clauses</TableCell>
          <TableCell>Until</TableCell>
          <TableCell>By whom, and why</TableCell>
          <TableCell>
            <Unseen>Actions</Unseen>
          </TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {freezes.map((freeze) => (
          <TableRow key={freeze.no} sx={{ verticalAlign: 'top' }}>
            <TableCell>F{freeze.no}</TableCell>
            <TableCell>
              {frozenNodes(freeze)}
              <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>{heldWords(freeze)}</Typography>
            </TableCell>
            <TableCell>
              {freeze.clauses.length > 0 ? <Address>{freeze.clauses.join('  ')}</Address> : frozenClauses(freeze)}
              {freeze.unknown_clauses?.map((unknown) => (
                <Typography key={unknown} sx={{ fontSize: 14, color: 'text.secondary' }}>
                  No node has a clause {unknown}.
                </Typography>
              ))}
            </TableCell>
            <TableCell>{freezeStatus(freeze, now)}</TableCell>
            <TableCell>
              {freeze.who}: “{freeze.because}”
            </TableCell>
            <TableCell align="right">
              {!freeze.ended && Date.parse(freeze.until) > now && (
                <Button variant="text" size="small" disabled={!mayFreeze} onClick={() => onEnd(freeze)} aria-label={`End… F${freeze.no}`}>
                  End…
                </Button>
              )}
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}
