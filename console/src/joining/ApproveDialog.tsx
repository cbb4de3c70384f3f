import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControlLabel from '@mui/material/FormControlLabel';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { useSettled } from '../groups/useSettled';
import { useKept } from '../shell/useKept';
import { count } from '../words/words';
import { desiredWords, labelText, typedLabels } from './joiningWords';
import { NOWHERE, PlacementFields, placementOf } from './PlacementFields';

type Request = Schemas['JoiningRequest'];

/** What one request is approved as: under another name, or as the known node that has its name. */
interface As {
  name?: string;
  isKnown?: boolean;
}

interface Shown {
  requests: Request[];
  onClose: () => void;
  onApproved: (approved: Schemas['Approved']) => void;
}

/** Approves requests together and places their machines in one form. What each would become is shown while it is filled in. */
export function ApproveDialog({ requests, onClose, onApproved }: Shown) {
  const queries = useQueryClient();
  const [placed, setPlaced, dropPlaced] = useKept('placement of joining machines', NOWHERE);
  const [as, setAs, dropAs] = useKept<Record<string, As>>('names of joining machines', {});
  const isWrong = typedLabels(placed.labels).wrong !== undefined;
  const wanted = useSettled(
    JSON.stringify({ requests: requests.map((request) => approved(request, as[request.id])), placement: placementOf(placed), preview: true }),
  );
  const preview = useQuery({
    queryKey: ['approval', wanted],
    queryFn: ({ signal }) => api.approveRequests(JSON.parse(wanted) as Schemas['ApproveRequests'], signal),
    enabled: !isWrong,
    placeholderData: (before) => before,
  });
  const approve = useMutation({
    mutationFn: () =>
      api.approveRequests({ requests: requests.map((request) => approved(request, as[request.id])), placement: placementOf(placed), preview: false }),
    onSuccess: (done) => {
      dropPlaced();
      dropAs();
      onApproved(done);
    },
    // What was tried is not tried again of what is done.
    onSettled: () => queries.invalidateQueries({ predicate: ({ queryKey }) => queryKey[0] !== 'approval' }),
  });
  const problem = approve.error ?? (isWrong ? null : preview.error);
  return (
    <Dialog open onClose={onClose} maxWidth="lg" fullWidth aria-labelledby="approve-title">
      <DialogTitle id="approve-title">Approve {count(requests.length, 'machine')}?</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 1 }}>
        <Box sx={{ display: 'grid', gap: 1, gridTemplateColumns: { xs: '1fr', md: '1fr 1fr' }, alignItems: 'start' }}>
          <PlacementFields placed={placed} onPlaced={setPlaced} withGroups />
        </Box>
        {problem && <Alert severity="error">{problemWords(problem)}</Alert>}
        <Table size="small" aria-label="What they would be" sx={{ tableLayout: { md: 'fixed' }, '& td': { verticalAlign: 'top' } }}>
          <TableHead>
            <TableRow>
              <TableCell sx={{ width: '32%' }}>Node</TableCell>
              <TableCell>Labels</TableCell>
              <TableCell>Groups</TableCell>
              <TableCell>Stage, mode</TableCell>
              <TableCell>Desired</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {requests.map((request, at) => (
              <WouldBe
                key={request.id}
                request={request}
                as={as[request.id] ?? {}}
                onAs={(one) => setAs({ ...as, [request.id]: one })}
                node={preview.error ? undefined : preview.data?.nodes[at]}
              />
            ))}
          </TableBody>
        </Table>
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={approve.isPending || isWrong || preview.error !== null} onClick={() => approve.mutate()}>
          Approve {count(requests.length, 'machine')}
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function approved({ id, name }: Request, as: As | undefined): Schemas['ApproveRequest'] {
  if (as?.isKnown) return { id, as_node: name };
  return as?.name && as.name !== name ? { id, name: as.name } : { id };
}

function WouldBe({ request, as, onAs, node }: { request: Request; as: As; onAs: (as: As) => void; node?: Schemas['ApprovedNode'] }) {
  const isFixed = request.known_as !== undefined && request.known_as !== null;
  return (
    <TableRow>
      <TableCell sx={{ minWidth: 200 }}>
        <TextField
          size="small"
          variant="standard"
          fullWidth
          value={as.isKnown ? request.name : (as.name ?? request.name)}
          disabled={isFixed || as.isKnown}
          onChange={(event) => onAs({ name: event.target.value })}
          slotProps={{ htmlInput: { 'aria-label': `name of ${request.name}`, maxLength: 253 } }}
        />
        {request.name_used_by && (
          <FormControlLabel
            control={<Checkbox size="small" checked={as.isKnown ?? false} onChange={(_, isKnown) => onAs({ ...as, isKnown })} />}
            label={
              <Box sx={{ fontSize: 13 }}>
                it is the node {request.name} on a new machine: it keeps its labels, groups and settings, and its old key is refused from then on
              </Box>
            }
          />
        )}
      </TableCell>
      <TableCell sx={{ overflowWrap: 'anywhere' }}>{node ? labelText(node.labels) : '…'}</TableCell>
      <TableCell>{node?.groups.join(', ')}</TableCell>
      <TableCell>{node && [node.stage, node.mode].filter(Boolean).join(', ')}</TableCell>
      <TableCell sx={node?.unusable ? { color: 'error.main' } : undefined}>{node && desiredWords(node)}</TableCell>
    </TableRow>
  );
}
