import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { ChangeDialog } from '../changes/ChangeDialog';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';

type Stage = Schemas['Stage'];

/** What each stage serves, in their order; a later one is advanced to what an earlier one serves. */
export function StagesCard() {
  const stages = useQuery({ queryKey: ['stages'], queryFn: ({ signal }) => api.stages(signal) });
  return (
    <Card title="Stages" aside={<CopiedCommand command="constans stage list" />}>
      <QueryView query={stages}>{(stages) => <StageTable stages={stages} />}</QueryView>
    </Card>
  );
}

function StageTable({ stages }: { stages: Stage[] }) {
  const session = useQuery(sessionQuery);
  const [advanced, setAdvanced] = useState<{ to: Stage; earlier: Stage[] }>();
  const may = session.data?.permissions ?? [];
  const mayHandOut = may.includes('stage.serve');
  const isOffered = mayHandOut || may.includes('change.request');
  return (
    <>
      <Table size="small" aria-label="Stages">
        <TableBody>
          {stages.map((stage, at) => (
            <TableRow key={stage.name}>
              <TableCell sx={{ whiteSpace: 'nowrap' }}>
                <b>{stage.name}</b>
                {stage.second_person && <Box sx={{ color: 'text.secondary', fontSize: 13 }}>changes need a second person</Box>}
              </TableCell>
              <TableCell>
                <Address>{stage.serves.join('  ') || 'nothing yet'}</Address>
              </TableCell>
              <TableCell align="right" sx={{ whiteSpace: 'nowrap' }}>
                {at > 0 && (
                  <Button
                    variant="text"
                    size="small"
                    disabled={!isOffered}
                    onClick={() => setAdvanced({ to: stage, earlier: stages.slice(0, at) })}
                    aria-label={`advance ${stage.name}`}
                  >
                    Advance…
                  </Button>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {!isOffered && (
        <Typography sx={{ color: 'text.secondary', mt: 1 }}>
          Operators and publishers request what a stage serves; approvers and administrators decide it.
        </Typography>
      )}
      {advanced && <AdvanceDialog {...advanced} mayHandOut={mayHandOut} onClose={() => setAdvanced(undefined)} />}
    </>
  );
}

interface Advanced {
  to: Stage;
  earlier: Stage[];
  mayHandOut: boolean;
  onClose: () => void;
}

function AdvanceDialog({ to, earlier, mayHandOut, onClose }: Advanced) {
  const [from, setFrom] = useState(earlier.at(-1)?.name ?? '');
  const serves = earlier.find(({ name }) => name === from)?.serves ?? [];
  const next = serves.filter((release) => !to.serves.includes(release));
  return (
    <ChangeDialog
      title={`Advance ${to.name}`}
      next={
        next.length > 0 ? (
          <>
            It serves then <Address>{next.join('  ')}</Address>, all or none. Its nodes have it with their next check-ins.
          </>
        ) : (
          `${to.name} serves what ${from} serves already.`
        )
      }
      isWhole={next.length > 0}
      filledIn={from}
      mayHandOut={mayHandOut}
      ask={(how) => api.advanceStage(to.name, { from, kits: [], preview: false, request: false, although_unusable: false, ...how })}
      onClose={onClose}
    >
      <TextField select label="To what this stage serves" value={from} onChange={(event) => setFrom(event.target.value)} margin="dense">
        {earlier.map(({ name }) => (
          <MenuItem key={name} value={name}>
            {name}
          </MenuItem>
        ))}
      </TextField>
    </ChangeDialog>
  );
}
