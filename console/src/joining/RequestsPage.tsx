import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Checkbox from '@mui/material/Checkbox';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock, exact } from '../words/time';
import { count, waitsBecause } from '../words/words';
import { ApproveDialog } from './ApproveDialog';
import { DenyDialog } from './DenyDialog';
import { JoiningTabs } from './JoiningTabs';
import { isLike, labelText, originWords, saysWords } from './joiningWords';

type Request = Schemas['JoiningRequest'];

/** Machines that ask to join: compared by their fingerprints, then approved or denied, one or several. */
export function RequestsPage() {
  const requests = useQuery({ queryKey: ['joining', 'waiting'], queryFn: ({ signal }) => api.joiningRequests('waiting', signal) });
  return (
    <Page title="Joining" heading={<JoiningTabs />}>
      <QueryView query={requests}>{(requests) => <Requests requests={requests} />}</QueryView>
    </Page>
  );
}

function Requests({ requests }: { requests: Request[] }) {
  const session = useQuery(sessionQuery);
  const [parameters, set] = useParameters();
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [deciding, setDeciding] = useState<'approve' | 'deny'>();
  const [approved, setApproved] = useState<Schemas['Approved']>();
  const mayDecide = session.data?.permissions.includes('join.approve') ?? false;
  const [name, invitation] = [parameters.get('name') ?? '', parameters.get('invitation') ?? ''];
  const shown = requests.filter((request) => (name === '' || isLike(name, request.name)) && (invitation === '' || request.invitation === invitation));
  const chosen = shown.filter((request) => selected.has(request.id));
  const choose = (ids: string[], on: boolean) => {
    const next = new Set(selected);
    for (const id of ids) {
      if (on) next.add(id);
      else next.delete(id);
    }
    setSelected(next);
  };
  return (
    <Card title={`${count(requests.length, 'machine')} waiting`} aside={<CopiedCommand command="constans join list" />}>
      {approved && <ApprovedAlert approved={approved} onClose={() => setApproved(undefined)} />}
      {requests.length === 0 ? (
        <Typography>
          No machine asks to join.{' '}
          <Link component={RouterLink} to="/joining/invitations">
            Make an invitation
          </Link>
          , then run on the machine <Address>constans-agent join --invitation-file FILE</Address>.
        </Typography>
      ) : (
        <>
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', mb: 1.5 }}>
            <TextField
              size="small"
              label="Name or pattern"
              placeholder="kiosk-lab-*"
              value={name}
              onChange={(event) => set({ name: event.target.value })}
              slotProps={{ htmlInput: { spellCheck: false } }}
            />
            {invitation && (
              <Typography>
                only those of the invitation <Address>{invitation}</Address>{' '}
                <Button variant="text" size="small" onClick={() => set({ invitation: null })}>
                  show all
                </Button>
              </Typography>
            )}
            <Box sx={{ flex: 1 }} />
            <Typography sx={{ color: 'text.secondary' }} aria-live="polite">
              {mayDecide ? `${chosen.length} of ${shown.length} selected` : 'Approving and denying is for approvers and administrators.'}
            </Typography>
            <Button variant="outlined" disabled={!mayDecide || chosen.length === 0} onClick={() => setDeciding('deny')}>
              Deny…
            </Button>
            <Button variant="contained" disabled={!mayDecide || chosen.length === 0} onClick={() => setDeciding('approve')}>
              Approve…
            </Button>
          </Box>
          <Typography sx={{ color: 'text.secondary', mb: 1 }}>
            Everything but the fingerprint is what a machine claims. Compare the fingerprint with the one that the machine shows.
          </Typography>
          <RequestTable requests={shown} selected={selected} mayDecide={mayDecide} onChoose={choose} onInvitation={(id) => set({ invitation: id })} />
        </>
      )}
      {deciding === 'approve' && (
        <ApproveDialog
          requests={chosen}
          onClose={() => setDeciding(undefined)}
          onApproved={(done) => {
            setDeciding(undefined);
            setSelected(new Set());
            setApproved(done);
          }}
        />
      )}
      {deciding === 'deny' && <DenyDialog requests={chosen} onClose={() => setDeciding(undefined)} />}
    </Card>
  );
}

function ApprovedAlert({ approved, onClose }: { approved: Schemas['Approved']; onClose: () => void }) {
  const { nodes, change } = approved;
  return (
    <Alert severity="success" variant="outlined" onClose={onClose} sx={{ mb: 2 }}>
      {nodes.length === 1 ? `${nodes[0]?.name} is approved` : `${count(nodes.length, 'machine')} are approved`}
      {change && `; their groups name them by C${change}`}. What happens next: each receives its certificate when its agent asks again, then checks in and runs
      as its groups say.{' '}
      <Link component={RouterLink} to="/nodes?sort=-last_contact">
        Nodes
      </Link>
    </Alert>
  );
}

interface Rows {
  requests: Request[];
  selected: Set<string>;
  mayDecide: boolean;
  onChoose: (ids: string[], on: boolean) => void;
  onInvitation: (id: string) => void;
}

function RequestTable({ requests, selected, mayDecide, onChoose, onInvitation }: Rows) {
  const ids = requests.map(({ id }) => id);
  const chosen = ids.filter((id) => selected.has(id)).length;
  return (
    <Table size="small" aria-label="Joining requests" sx={{ '& td': { verticalAlign: 'top' } }}>
      <TableHead>
        <TableRow>
          <TableCell padding="checkbox">
            <Checkbox
              size="small"
              disabled={!mayDecide}
              checked={chosen > 0 && chosen === ids.length}
              indeterminate={chosen > 0 && chosen < ids.length}
              onChange={(_, on) => onChoose(ids, on)}
              slotProps={{ input: { 'aria-label': 'select all' } }}
            />
          </TableCell>
          <TableCell>Machine</TableCell>
          <TableCell sx={{ width: 330 }}>Fingerprint of its key</TableCell>
          <TableCell>Came with</TableCell>
          <TableCell>Asked</TableCell>
        </TableRow>
      </TableHead>
      <TableBody>
        {requests.map((request) => (
          <TableRow key={request.id}>
            <TableCell padding="checkbox">
              <Checkbox
                size="small"
                disabled={!mayDecide}
                checked={selected.has(request.id)}
                onChange={(_, on) => onChoose([request.id], on)}
                slotProps={{ input: { 'aria-label': `select ${request.name}` } }}
              />
            </TableCell>
            <TableCell>
              <b>{request.name}</b>
              <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{saysWords(request.about)}</Box>
              {request.name_used_by && <NameUsed name={request.name} user={request.name_used_by} />}
              {request.rule_waits && (
                <Box sx={{ fontSize: 13, color: 'warning.main' }}>
                  fits the rule A{request.rule_waits.rule}, but {waitsBecause(request.rule_waits.because)}
                </Box>
              )}
            </TableCell>
            <TableCell sx={{ overflowWrap: 'anywhere' }}>
              <Address>{request.fingerprint.replace(/(.{8})(?=.)/g, '$1 ')}</Address>
            </TableCell>
            <TableCell>
              {originWords(request)}
              <Box sx={{ color: 'text.secondary', fontSize: 13, overflowWrap: 'anywhere' }}>
                {labelText(request.labels)}{' '}
                {request.invitation && (
                  <Button variant="text" size="small" sx={{ p: 0, minWidth: 0 }} onClick={() => onInvitation(request.invitation ?? '')}>
                    all of this invitation
                  </Button>
                )}
              </Box>
            </TableCell>
            <TableCell sx={{ whiteSpace: 'nowrap' }}>
              <time dateTime={request.requested_at} title={exact(request.requested_at)}>
                {clock(request.requested_at)}
              </time>
              <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{request.address}</Box>
            </TableCell>
          </TableRow>
        ))}
      </TableBody>
    </Table>
  );
}

function NameUsed({ name, user }: { name: string; user: Schemas['NameUser'] }) {
  return (
    <Box sx={{ fontSize: 13, color: 'warning.main' }}>
      the name is in use:{' '}
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(name)}`}>
        {name}
      </Link>{' '}
      joined {clock(user.joined_at)}, {user.last_contact ? `last checked in ${clock(user.last_contact)}` : 'never checked in'}
    </Box>
  );
}
