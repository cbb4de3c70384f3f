import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import ToggleButton from '@mui/material/ToggleButton';
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { lists, type Schemas } from '../api/client';
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
import { JoiningTabs } from './JoiningTabs';
import { labelText, spaced } from './joiningWords';

type Request = Schemas['JoiningRequest'];

const COLUMNS: Column<Request>[] = [
  { field: 'name', head: 'Machine', text: ({ name }) => name, cell: (request) => <Machine {...request} /> },
  {
    field: 'decided_by',
    head: 'Decided by',
    text: ({ decision }) => decision?.who ?? '',
    cell: ({ decision }) => decision && `${decision.rule ? `the rule A${decision.rule} of ` : ''}${decision.who}`,
  },
  { field: 'decided_at', head: 'When', text: ({ decision }) => decision?.at ?? '', cell: ({ decision }) => <Moment at={decision?.at} /> },
  { field: 'because', head: 'Why', text: ({ decision }) => decision?.because ?? '' },
  {
    field: 'fingerprint',
    head: 'Fingerprint of its key',
    width: 330,
    text: ({ fingerprint }) => fingerprint,
    cell: ({ fingerprint }) => <Address>{spaced(fingerprint)}</Address>,
  },
  { field: 'labels', head: 'Labels', text: ({ labels }) => labelText(labels), isHiddenFirst: true },
  { field: 'requested_at', head: 'Asked', text: ({ requested_at }) => requested_at, cell: ({ requested_at }) => <Moment at={requested_at} /> },
  { field: 'address', head: 'From', text: ({ address }) => address },
];

/** What was decided of joining requests, by whom or by which rule. */
export function DecidedPage() {
  const [parameters, set] = useParameters();
  const only = parameters.get('only') === 'approved' ? 'approved' : 'denied';
  const list = useList('request', lists.joiningRequests(only), { key: ['joining', only] });
  return (
    <Page title="Decided requests" heading={<JoiningTabs />}>
      <Card
        title="Decided requests"
        aside={
          <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
            <ToggleButtonGroup size="small" exclusive value={only} onChange={(_, only) => only && set({ only })} aria-label="Which requests">
              <ToggleButton value="denied">denied</ToggleButton>
              <ToggleButton value="approved">approved</ToggleButton>
            </ToggleButtonGroup>
            <CopiedCommand command={`constans join list --${only}${asArgument(list.filter)}`} />
          </Box>
        }
      >
        <ListView
          label="Decided requests"
          nouns={['request', 'requests']}
          list={list}
          columns={COLUMNS}
          keyOf={({ id }) => id}
          example={'request.decided_by == "ilse.maren"'}
          empty={<Typography>No request was {only}.</Typography>}
        />
      </Card>
    </Page>
  );
}

function Machine({ name, decision }: Request) {
  return (
    <>
      {decision?.node ? (
        <Link component={RouterLink} to={`/nodes/${encodeURIComponent(decision.node)}`}>
          {decision.node}
        </Link>
      ) : (
        name
      )}
      <Box sx={{ color: 'text.secondary', fontSize: 13 }}>
        {decision?.node && decision.node !== name && `asked as ${name}`}
        {decision?.is_approved && !decision.node && 'retired since'}
      </Box>
    </>
  );
}
