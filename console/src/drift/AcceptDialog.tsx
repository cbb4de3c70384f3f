import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Dialog from '@mui/material/Dialog';
import DialogActions from '@mui/material/DialogActions';
import DialogContent from '@mui/material/DialogContent';
import DialogTitle from '@mui/material/DialogTitle';
import FormControl from '@mui/material/FormControl';
import FormControlLabel from '@mui/material/FormControlLabel';
import FormLabel from '@mui/material/FormLabel';
import Radio from '@mui/material/Radio';
import RadioGroup from '@mui/material/RadioGroup';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { ConfirmDialog } from '../changes/ConfirmDialog';
import { askAddress } from '../concessions/concessionWords';
import { Address } from '../looks/Address';
import { CopiedCommand } from '../looks/CopiedCommand';
import { EndField, momentOf } from '../looks/EndField';
import { ReasonField } from '../looks/ReasonField';
import { Differences } from '../run/Differences';
import { TextDiff } from '../run/TextDiff';
import { QueryView } from '../shell/QueryView';
import { useTyped } from '../shell/useKept';
import { count, layerWords } from '../words/words';

interface Which {
  node: string;
  clause: string;
  onClose: () => void;
}

/** Accepts what was found of a clause on a node: which group gives the values first, then what that would alter. */
export function AcceptDialog({ node, clause, onClose }: Which) {
  const draft = `accept ${clause} of ${node}`;
  const [group, setGroup] = useTyped(`${draft} group`, '');
  const [end, setEnd] = useTyped(`${draft} end`, '');
  const [because, setBecause] = useTyped(`${draft} because`, '');
  const query = { node, clause };
  const acceptable = useQuery({ queryKey: ['acceptable', query], queryFn: ({ signal }) => api.acceptable(query, signal) });
  const able = acceptable.data?.groups.filter((one) => !one.why_not) ?? [];
  const canAlone = acceptable.data !== undefined && !acceptable.data.alone_why_not;
  const chosen = group || (able[0]?.name ?? (canAlone ? ALONE : ''));
  const until = chosen === ALONE ? momentOf(end) : undefined;
  const preview = useMutation({
    mutationFn: async () => {
      const run = acceptable.data?.run ?? '';
      const changed = await api.accept(
        { node, clause, run, group: chosen === ALONE ? undefined : chosen, until },
        { because: because.trim() || undefined, preview: true },
      );
      return api.change(changed.change ?? 0);
    },
  });
  if (preview.data?.impact) {
    const { change, impact, typed_from } = preview.data;
    return <ConfirmDialog no={change.no} what={change.what} impact={impact} typedFrom={typed_from} onClose={onClose} />;
  }
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="accept-title">
      <DialogTitle id="accept-title">Accept what was found on {node}?</DialogTitle>
      <DialogContent sx={{ display: 'grid', gap: 2 }}>
        <Address>{clause}</Address>
        <QueryView query={acceptable}>{(found) => <Found node={node} found={found} chosen={chosen} choose={setGroup} />}</QueryView>
        {chosen !== '' && (
          <Box sx={{ display: 'flex', gap: 2, flexWrap: 'wrap' }}>
            {chosen === ALONE && <EndField end={end} onEnd={setEnd} />}
            <ReasonField reason={because} onReason={setBecause} />
          </Box>
        )}
        {preview.error && <Alert severity="error">{problemWords(preview.error)}</Alert>}
        <Typography component="div">
          <CopiedCommand command={`constans drift accept ${node} '${clause}'${chosenWords(chosen, until)}`} />
        </Typography>
      </DialogContent>
      <DialogActions>
        <Button variant="text" onClick={onClose}>
          Cancel
        </Button>
        <Button variant="outlined" component={RouterLink} to={askAddress(node, clause)}>
          Ask for a concession instead
        </Button>
        {chosen !== '' && (
          <Button variant="contained" disabled={preview.isPending} onClick={() => preview.mutate()}>
            {preview.isPending ? 'Computing the impact…' : 'Show the impact'}
          </Button>
        )}
      </DialogActions>
    </Dialog>
  );
}

/** In place of a group's name, which has no blanks: the node alone has the values. */
const ALONE = 'this node';

function chosenWords(chosen: string, until?: string): string {
  if (chosen !== ALONE) return chosen && ` --group ${chosen}`;
  return until ? ` --alone --until ${until}` : ' --alone';
}

interface Choice {
  node: string;
  found: Schemas['Acceptable'];
  chosen: string;
  choose: (group: string) => void;
}

function Found({ node, found, chosen, choose }: Choice) {
  return (
    <>
      <Differences differences={found.differences} />
      <TextDiff diff={found.text_diff} />
      {found.why_not && <Alert severity="info">No parameter makes it desired: {found.why_not}.</Alert>}
      {found.values.map(({ parameter, value, now }) => (
        <Typography key={parameter}>
          <Address>{`${parameter} = ${JSON.stringify(value)}`}</Address> would make it desired; now {JSON.stringify(now.value)}, from {layerWords(now)}.
        </Typography>
      ))}
      {found.alone_why_not ? (
        <Alert severity="info">
          No value of {node} alone makes it desired: {found.alone_why_not}.
        </Alert>
      ) : (
        found.alone.map(({ property, value }) => (
          <Typography key={property}>
            <Address>{`${property} = ${JSON.stringify(value)}`}</Address> for {node} alone would make it desired.
          </Typography>
        ))
      )}
      {(found.groups.length > 0 || !found.alone_why_not) && (
        <FormControl>
          <FormLabel id="accepting-group">Where it is accepted</FormLabel>
          <RadioGroup aria-labelledby="accepting-group" value={chosen} onChange={(_, name) => choose(name)}>
            {found.groups.map((group) => (
              <FormControlLabel
                key={group.name}
                value={group.name}
                disabled={Boolean(group.why_not)}
                control={<Radio size="small" />}
                label={`the group ${group.name}: ${group.why_not ? `cannot, ${group.why_not}` : forGroup(group)}`}
              />
            ))}
            {!found.alone_why_not && <FormControlLabel value={ALONE} control={<Radio size="small" />} label={`${node} alone, over what its groups give`} />}
          </RadioGroup>
        </FormControl>
      )}
    </>
  );
}

function forGroup({ nodes, also }: Schemas['AcceptingGroup']): string {
  const more = also.length > 0 ? `; alters also ${also.length > 5 ? `${also.length} other clauses of this node` : also.join(', ')}` : '';
  return `${count(nodes, 'node')}${more}`;
}
