import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useParams } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { ListView } from '../lists/ListView';
import { NODE_COLUMN } from '../lists/nodeColumn';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { RolloutCards } from '../rollouts/RolloutCard';
import { planWords } from '../rollouts/rolloutWords';
import { TextDiff } from '../run/TextDiff';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { mayOn, sessionQuery } from '../shell/session';
import { WakeDialog } from '../wakes/WakeDialog';
import { clock, exact } from '../words/time';
import { count } from '../words/words';
import { ConfirmDialog } from './ConfirmDialog';
import { changeAddress, progressWords } from './changeWords';
import { DenyDialog } from './DenyDialog';
import { GoBackDialog } from './GoBackDialog';
import { ImpactView } from './ImpactView';

/** One change: its impact, its documents before and after, the nodes that do not have it, and taking it back. */
export function ChangePage() {
  const { no = '' } = useParams();
  const number = Number(no.replace(/^C/, ''));
  const change = useQuery({ queryKey: ['change', number], queryFn: ({ signal }) => api.change(number, signal), refetchInterval: 5_000 });
  return (
    <Page title={`C${number}`} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/changes">
          Changes
        </Link>{' '}
        / C{number}
      </Typography>
      <QueryView query={change}>{(shown) => <ChangeParts shown={shown} />}</QueryView>
    </Page>
  );
}

function ChangeParts({ shown }: { shown: Schemas['ChangeShown'] }) {
  const { change, impact, edits } = shown;
  return (
    <>
      <ChangeHead shown={shown} />
      {change.has_rollout && <RolloutCards no={change.no} />}
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 13fr) minmax(0, 7fr)' }, alignItems: 'start' }}>
        <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
          {impact && (
            <Card title="Impact">
              <ImpactView impact={impact} />
            </Card>
          )}
          {edits.length > 0 && (
            <Card title="Documents">
              {edits.map(({ edit, title, difference }) => (
                <Box key={edit.key} sx={{ mb: 1 }}>
                  <Address>{title}</Address>
                  <TextDiff diff={{ text: difference, cut: false }} />
                </Box>
              ))}
            </Card>
          )}
        </Box>
        {change.status === 'handed_out' && !change.has_rollout && (
          <Card title="Nodes">
            <NodesOfChange shown={shown} />
          </Card>
        )}
      </Box>
    </>
  );
}

function ChangeHead({ shown: { change, behind, impact, edits, typed_from, asks_for_second_person, in_waves } }: { shown: Schemas['ChangeShown'] }) {
  const session = useQuery(sessionQuery);
  const mayDecide = mayOn(session.data, []).includes('change.decide') || (change.who === session.data?.person && mayOn(session.data).includes('change.decide'));
  const queries = useQueryClient();
  const stop = useMutation({ mutationFn: () => api.stopChange(change.no), onSettled: () => queries.invalidateQueries() });
  const [asks, setAsks] = useState<'confirm' | 'approve' | 'deny' | 'go-back'>();
  const isQueued = change.status === 'waiting' || change.status === 'preparing';
  const waits = change.status === 'unconfirmed' || change.status === 'previewed';
  const isRequested = change.status === 'requested';
  const isOwn = session.data?.person === change.who;
  const canGoBack = change.status === 'handed_out' && edits.length > 0;
  const actions = [
    isQueued && { words: 'Stop', act: () => stop.mutate() },
    waits && { words: 'Hand out…', act: () => setAsks('confirm') },
    isRequested && { words: 'Deny…', act: () => setAsks('deny') },
    canGoBack && { words: 'Take back…', act: () => setAsks('go-back') },
  ];
  const action = actions.find((one) => one !== false);
  return (
    <Box sx={{ mb: 2 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center', flexWrap: 'wrap' }}>
        <Typography variant="h1">
          C{change.no}: {change.what}
        </Typography>
        <Box sx={{ flex: 1 }} />
        {isRequested && (
          <Button disabled={!mayDecide || isOwn} onClick={() => setAsks('approve')}>
            Approve…
          </Button>
        )}
        {action && (
          <Button disabled={!mayDecide} onClick={action.act}>
            {action.words}
          </Button>
        )}
        {action && session.data && !mayDecide && <Typography sx={{ color: 'text.secondary' }}>for approvers and administrators</Typography>}
        <CopiedCommand command={`constans change show C${change.no}`} />
      </Box>
      <Typography>
        {change.who}, {exact(change.drafted)}
        {change.because && `: “${change.because}”`}
        {change.confirmed_by && `; confirmed by ${change.confirmed_by}`}
        {change.approved_by && `; approved by ${change.approved_by}`}
        {change.of_rollout != null && (
          <>
            . Part of the rollout{' '}
            <Link component={RouterLink} to={changeAddress(change.of_rollout)}>
              C{change.of_rollout}
            </Link>
          </>
        )}
        {change.goes_back != null && (
          <>
            . Takes back{' '}
            <Link component={RouterLink} to={changeAddress(change.goes_back)}>
              C{change.goes_back}
            </Link>
          </>
        )}
      </Typography>
      <Typography sx={{ '&::first-letter': { textTransform: 'uppercase' } }}>
        {change.ended && change.status === 'handed_out' ? `handed out ${clock(change.ended)}; ${progressWords(change)}.` : `${progressWords(change)}.`}
        {behind && ` Waits for ${behind}.`}
        {in_waves && !change.has_rollout && ` In waves of ${in_waves.waves.map((percent) => `${percent} %`).join(', ')}. ${planWords(in_waves)}`}
        {change.status === 'requested' && ` ${requestWords(asks_for_second_person ?? [], isOwn)}`}
      </Typography>
      {change.refused && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 1 }}>
          {change.refused}. {change.hint}
        </Alert>
      )}
      {asks === 'confirm' && impact && (
        <ConfirmDialog no={change.no} what={change.what} impact={impact} typedFrom={typed_from} onClose={() => setAsks(undefined)} />
      )}
      {asks === 'approve' && impact && (
        <ConfirmDialog no={change.no} what={change.what} impact={impact} typedFrom={typed_from} approves onClose={() => setAsks(undefined)} />
      )}
      {asks === 'deny' && <DenyDialog change={change} onClose={() => setAsks(undefined)} />}
      {asks === 'go-back' && <GoBackDialog change={change} onClose={() => setAsks(undefined)} />}
    </Box>
  );
}

function requestWords(asks: string[], isOwn: boolean): string {
  const why = asks.length > 0 ? `A second person is needed for ${asks.join(', ')}.` : 'Its author may not hand it out.';
  return isOwn ? `${why} You asked for it yourself: another person approves it.` : why;
}

function NodesOfChange({ shown: { nodes, last_by, change } }: { shown: Schemas['ChangeShown'] }) {
  const session = useQuery(sessionQuery);
  const [isFetching, setFetching] = useState(false);
  const mayWake = mayOn(session.data).includes('node.wake');
  const list = useList('changed', lists.changedNodes(change.no), { key: ['change', change.no, 'nodes'], refetchInterval: () => 5_000 });
  const without = nodes.filter((node) => !node.has_since && !node.is_later);
  if (change.nodes === 0) return <Typography>It affects no node.</Typography>;
  return (
    <>
      <Typography>
        {without.length === 0 ? 'No node is without it.' : `${change.outstanding.toLocaleString('en')} do not have it yet`}
        {without.length > 0 && last_by && `; the last one by ${clock(last_by)}`}
      </Typography>
      {without.length > 0 && (
        <Button size="small" disabled={!mayWake} onClick={() => setFetching(true)} sx={{ mt: 0.5 }}>
          Fetch now…
        </Button>
      )}
      {without.length > 0 && session.data && !mayWake && (
        <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>for operators, approvers and administrators</Typography>
      )}
      {isFetching && (
        <WakeDialog
          title={`Have C${change.no} fetched now`}
          which={{ change: change.no }}
          nodes={`${count(change.outstanding, 'node')} without C${change.no}`}
          onClose={() => setFetching(false)}
        />
      )}
      <ListView
        label="Nodes of the change"
        nouns={['node', 'nodes']}
        list={list}
        columns={NODE_COLUMNS}
        keyOf={({ name }) => name}
        example='changed.name.startsWith("kiosk-")'
        empty={null}
      />
    </>
  );
}

const NODE_COLUMNS: Column<Schemas['ChangedNode']>[] = [
  NODE_COLUMN,
  { field: 'has_since', head: 'Has it', text: nodeWords },
  {
    field: 'next_check_in',
    head: 'Next check-in',
    text: ({ next_check_in }) => next_check_in ?? '',
    cell: ({ next_check_in }) => <Moment at={next_check_in} />,
    isHiddenFirst: true,
  },
];

function nodeWords(node: Schemas['ChangedNode']): string {
  if (node.has_since) return `has it since ${clock(node.has_since)}`;
  if (node.is_later) return 'changed again since';
  if (!node.next_check_in) return 'never checked in';
  return Date.parse(node.next_check_in) < Date.now() ? `was due ${clock(node.next_check_in)}` : `next check-in ${clock(node.next_check_in)}`;
}
