import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControlLabel from '@mui/material/FormControlLabel';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useMutation, useQueryClient } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { AsOf } from '../compliance/AsOf';
import { ReasonField } from '../looks/ReasonField';
import { useTyped } from '../shell/useKept';

type Format = Schemas['EvidenceFormat'];

const FORMATS: { format: Format; name: string }[] = [
  { format: 'html', name: 'page that prints well' },
  { format: 'xlsx', name: 'spreadsheet' },
  { format: 'json', name: 'JSON' },
  { format: 'oscal', name: 'OSCAL' },
];

interface Asked {
  /** What is filled in at first. */
  asOf: string;
  filter: string;
  control: string;
  onClose: () => void;
}

/** Has evidence made. */
export function MakeDialog({ asOf: firstAsOf, filter: firstFilter, control, onClose }: Asked) {
  const queries = useQueryClient();
  const [asOf, setAsOf] = useTyped('evidence as of', firstAsOf);
  const [asKnownAt, setAsKnownAt] = useTyped('evidence as known at', '');
  const [since, setSince] = useTyped('evidence since', '');
  const [filter, setFilter] = useTyped('evidence filter', firstFilter);
  const [controls, setControls] = useTyped('evidence controls', control);
  const [formats, setFormats] = useTyped<Format[]>('evidence formats', ['html', 'xlsx']);
  const [because, setBecause] = useTyped('evidence because', '');
  const make = useMutation({
    mutationFn: () =>
      api.makeEvidence({
        as_of: asOf || null,
        as_known_at: asKnownAt || null,
        since: since || null,
        filter: filter.trim() || null,
        controls: controls.split(/[\s,]+/).filter(Boolean),
        formats,
        because: because.trim() || null,
      }),
    onSuccess: onClose,
    onSettled: () => queries.invalidateQueries(),
  });
  const choose = (format: Format, on: boolean) => setFormats(on ? [...formats, format] : formats.filter((one) => one !== format));
  return (
    <Dialog open onClose={onClose} maxWidth="sm" fullWidth aria-labelledby="make-title">
      <DialogTitle id="make-title">Make evidence</DialogTitle>
      <DialogContent sx={{ display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 1.5 }}>
        <Moment name="Of the moment" value={asOf} onValue={setAsOf} empty="now" />
        <Moment name="As far as was known at" value={asKnownAt} onValue={setAsKnownAt} empty="now" />
        <Moment name="With all deviations since" value={since} onValue={setSince} empty="of the moment only" />
        <TextField
          label="Nodes where (CEL over labels, about, node.name; empty: all)"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
          margin="dense"
          slotProps={{ htmlInput: { spellCheck: false } }}
        />
        <TextField
          label="Controls, as SK-3 SK-9 (empty: all clauses)"
          value={controls}
          onChange={(event) => setControls(event.target.value)}
          margin="dense"
          slotProps={{ htmlInput: { spellCheck: false } }}
        />
        <Box sx={{ display: 'flex', alignItems: 'center', flexWrap: 'wrap' }}>
          <Typography sx={{ mr: 2, color: 'text.secondary' }}>CSV, and</Typography>
          {FORMATS.map(({ format, name }) => (
            <FormControlLabel
              key={format}
              control={<Checkbox size="small" checked={formats.includes(format)} onChange={(_, on) => choose(format, on)} />}
              label={name}
            />
          ))}
        </Box>
        <ReasonField reason={because} onReason={setBecause} />
        {make.error && <Alert severity="error">{problemWords(make.error)}</Alert>}
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="contained" disabled={make.isPending} onClick={() => make.mutate()}>
          Make
        </Button>
      </DialogActions>
    </Dialog>
  );
}

function Moment({ name, value, onValue, empty }: { name: string; value: string; onValue: (value: string) => void; empty: string }) {
  return (
    <Box role="group" aria-label={name} sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
      <Typography sx={{ width: 190 }}>{name}</Typography>
      <AsOf asOf={value} onAsOf={onValue} empty={empty} />
    </Box>
  );
}
