import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { changeAddress } from '../changes/changeWords';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { mayOn, sessionQuery } from '../shell/session';
import { RunNowButton } from '../sweeps/RunNowButton';
import { exact } from '../words/time';
import { count } from '../words/words';
import { AssignmentsCard } from './AssignmentsCard';
import { useDraft } from './draft';
import { EditsCard } from './EditsCard';
import { MembersCard } from './MembersCard';
import { ParametersCard } from './ParametersCard';
import { PlaceCard } from './PlaceCard';
import { SettingsCard } from './SettingsCard';

/** One group: which nodes it has, what it gives them, and what other groups put over that. Edits are a draft until they are saved. */
export function GroupPage() {
  const { name = '' } = useParams();
  const shown = useQuery({ queryKey: ['group', name], queryFn: ({ signal }) => api.group(name, signal) });
  return (
    <Page title={name} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/groups">
          Groups
        </Link>{' '}
        / {name}
      </Typography>
      <QueryView query={shown}>{(shown) => <GroupView key={name} shown={shown} />}</QueryView>
    </Page>
  );
}

function GroupView({ shown }: { shown: Schemas['GroupShown'] }) {
  const session = useQuery(sessionQuery);
  const draft = useDraft(shown.group);
  const may = mayOn(session.data, [shown.group.name]);
  const mayEdit = may.includes('group.edit') || may.includes('change.request');
  const { group, view, changed } = shown;
  return (
    <Box sx={{ display: 'grid', gap: 2 }}>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'baseline', columnGap: 2 }}>
        <Typography variant="h1">{group.name}</Typography>
        <Typography sx={{ color: 'text.secondary', flex: 1 }}>
          {count(view.nodes, 'node')} · priority {group.priority ?? 0}, the higher wins{group.stage ? ` · stage ${group.stage}` : ''}
          {group.second_person && ' · changes need a second person'}
          {changed && (
            <>
              {' · changed by '}
              <Link component={RouterLink} to={changeAddress(changed.no)}>
                C{changed.no}
              </Link>
              , {changed.who}, {exact(changed.at)}
            </>
          )}
        </Typography>
        <RunNowButton filter={`${JSON.stringify(group.name)} in node.groups`} where={`the group ${group.name}`} />
        <CopiedCommand command={`constans group show ${group.name}`} />
      </Box>
      {!mayEdit && (
        <Alert severity="info" variant="outlined">
          You may look and not edit: operators and publishers request changes, approvers and administrators make them.
        </Alert>
      )}
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', lg: 'minmax(0, 1.9fr) minmax(0, 1fr)' }, alignItems: 'start' }}>
        <Box sx={{ display: 'grid', gap: 2 }}>
          <AssignmentsCard draft={draft} view={view} mayEdit={mayEdit} />
          <ParametersCard draft={draft} parameters={view.parameters} mayEdit={mayEdit} />
          <SettingsCard draft={draft} settings={view.settings} nodes={view.nodes} mayEdit={mayEdit} />
        </Box>
        <Box sx={{ display: 'grid', gap: 2 }}>
          <EditsCard draft={draft} group={group.name} mayEdit={mayEdit} />
          <MembersCard draft={draft} members={shown.members} mayEdit={mayEdit} />
          <PlaceCard draft={draft} mayEdit={mayEdit} />
        </Box>
      </Box>
    </Box>
  );
}

/** What every part of the page is given. */
export interface Part {
  draft: ReturnType<typeof useDraft>;
  mayEdit: boolean;
}
