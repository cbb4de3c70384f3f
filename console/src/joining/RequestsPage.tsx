import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { lists, type Schemas } from '../api/client';
import { asArgument, listAt } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { sessionQuery } from '../shell/session';
import { clock } from '../words/time';
import { count, waitsBecause } from '../words/words';
import { ApproveDialog } from './ApproveDialog';
import { DenyDialog } from './DenyDialog';
import { JoiningTabs } from './JoiningTabs';
import { labelText, originWords, saysWords, spaced } from './joiningWords';

type Request = Schemas['JoiningRequest'];

const COLUMNS: Column<Request>[] = [
  { field: 'name', head: 'Machine', text: ({ name }) => name, cell: (request) => <Machine {...request} /> },
  {
    field: 'fingerprint',
    head: 'Fingerprint of its key',
    width: 330,
    text: ({ fingerprint }) => fingerprint,
    cell: ({ fingerprint }) => <Address>{spaced(fingerprint)}</Address>,
  },
  { field: 'invited_by', head: 'Came with', text: originWords, cell: (request) => <Origin {...request} /> },
  { field: 'labels', head: 'Labels', text: ({ labels }) => labelText(labels) },
  { field: 'requested_at', head: 'Asked', text: ({ requested_at }) => requested_at, cell: ({ requested_at }) => <Moment at={requested_at} /> },
  { field: 'address', head: 'From', text: ({ address }) => address },
];

/** Machines that ask to join: compared by their fingerprints, then approved or denied, one or several. */
export function RequestsPage() {
  const session = useQuery(sessionQuery);
  const list = useList('request', lists.joiningRequests('waiting'), { key: ['joining', 'waiting'] });
  // Those that were selected on other pages and by other filters stay selected.
  const [chosen, setChosen] = useState<Map<string, Request>>(new Map());
  const [deciding, setDeciding] = useState<'approve' | 'deny'>();
  const [approved, setApproved] = useState<Schemas['Approved']>();
  const mayDecide = session.data?.permissions.includes('join.approve') ?? false;
  const shown = list.query.data?.entries ?? [];
  const select = (ids: Set<string>) => {
    const known = new Map([...chosen, ...shown.map((request) => [request.id, request] as const)]);
    setChosen(new Map([...known].filter(([id]) => ids.has(id))));
  };
  const requests = [...chosen.values()];
  return (
    <Page title="Joining" heading={<JoiningTabs />}>
      <Card title="Machines that wait" aside={<CopiedCommand command={`constans join list${asArgument(list.filter)}`} />}>
        {approved && <ApprovedAlert approved={approved} onClose={() => setApproved(undefined)} />}
        {shown.length > 0 && (
          <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 2, alignItems: 'center', mb: 1.5 }}>
            <Typography sx={{ color: 'text.secondary', flex: 1, minWidth: 280 }}>
              Everything but the fingerprint is what a machine claims. Compare the fingerprint with the one that the machine shows.
            </Typography>
            <Typography sx={{ color: 'text.secondary' }} aria-live="polite">
              {mayDecide ? `${count(requests.length, 'machine')} selected` : 'Approving and denying is for approvers and administrators.'}
            </Typography>
            <Button variant="outlined" disabled={!mayDecide || requests.length === 0} onClick={() => setDeciding('deny')}>
              Deny…
            </Button>
            <Button variant="contained" disabled={!mayDecide || requests.length === 0} onClick={() => setDeciding('approve')}>
              Approve…
            </Button>
          </Box>
        )}
        <ListView
          label="Joining requests"
          nouns={['machine', 'machines']}
          list={list}
          columns={COLUMNS}
          keyOf={({ id }) => id}
          example={'request.name.startsWith("kiosk-lab-")'}
          empty={
            <Typography>
              No machine asks to join.{' '}
              <Link component={RouterLink} to="/joining/invitations">
                Make an invitation
              </Link>
              , then run on the machine <Address>constans-agent join --invitation-file FILE</Address>.
            </Typography>
          }
          selection={{ selected: new Set(chosen.keys()), onSelected: select, label: ({ name }) => name, isDisabled: !mayDecide }}
        />
      </Card>
      {deciding === 'approve' && (
        <ApproveDialog
          requests={requests}
          onClose={() => setDeciding(undefined)}
          onApproved={(done) => {
            setDeciding(undefined);
            setChosen(new Map());
            setApproved(done);
          }}
        />
      )}
      {deciding === 'deny' && (
        <DenyDialog
          requests={requests}
          onClose={() => {
            setDeciding(undefined);
            setChosen(new Map());
          }}
        />
      )}
    </Page>
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

function Machine({ name, about, name_used_by, rule_waits }: Request) {
  return (
    <>
      <b>{name}</b>
      <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{saysWords(about)}</Box>
      {name_used_by && <NameUsed name={name} user={name_used_by} />}
      {rule_waits && (
        <Box sx={{ fontSize: 13, color: 'warning.main' }}>
          fits the rule A{rule_waits.rule}, but {waitsBecause(rule_waits.because)}
        </Box>
      )}
    </>
  );
}

function Origin(request: Request) {
  return (
    <>
      {originWords(request)}
      {request.invitation && (
        <Box sx={{ fontSize: 13 }}>
          <Link component={RouterLink} to={listAt('/joining', `request.invitation == "${request.invitation}"`)}>
            all of this invitation
          </Link>
        </Box>
      )}
    </>
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
