import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { lists, type Schemas } from '../api/client';
import { asArgument, listOf } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { exact } from '../words/time';
import { differencesOf, nameOf, releaseAddress } from './releases';
import { StagesCard } from './StagesCard';

type Release = Schemas['PublishedRelease'];

const requires = (release: Release) => Object.entries(release.requires ?? {}).map(([kit, wanted]) => `${kit} ${String(wanted)}`);

const COLUMNS: Column<Release>[] = [
  {
    field: 'kit',
    head: 'Release',
    text: nameOf,
    cell: (release) => (
      <Link component={RouterLink} to={releaseAddress(release)}>
        {nameOf(release)}
      </Link>
    ),
  },
  { field: 'summary', head: 'For what', text: ({ summary }) => summary },
  { field: 'published_at', head: 'Published', text: ({ published_at }) => published_at, cell: ({ published_at }) => <Moment at={published_at} /> },
  { field: 'published_by', head: 'By', text: ({ published_by }) => published_by },
  { field: 'requires', head: 'Requires', text: (release) => requires(release).join(', ') || '–' },
  {
    field: 'served_in',
    head: 'Served in',
    text: ({ served_in, withdrawn }) => (withdrawn ? 'withdrawn' : served_in?.join(', ') || 'no stage'),
    cell: (release) => <ServedIn {...release} />,
  },
  { field: 'digest', head: 'Digest', text: ({ digest }) => digest, isHiddenFirst: true },
];

/** What is published: the releases, who published them, and which stages serve them. */
export function KitsPage() {
  const list = useList('release', lists.releases, { key: ['releases', 'list'] });
  const shown = list.query.data?.entries ?? [];
  return (
    <Page title="Kits">
      <Box sx={{ display: 'grid', gap: 2 }}>
        <StagesCard />
        <Card title="Releases" aside={<CopiedCommand command={`constans kit list${asArgument(list.filter)}`} />}>
          <ListView
            label="Releases"
            nouns={['release', 'releases']}
            list={list}
            columns={COLUMNS}
            keyOf={nameOf}
            example={'release.kit == "kiosk-floor" && "harbour" in release.served_in'}
            empty={
              <Typography>
                No kit is published yet. Create one with <Address>constans kit new NAME</Address>, publish it with <Address>constans kit publish DIR</Address>.
              </Typography>
            }
            actions={(release) => <Ways release={release} before={theOneBefore(release, shown)} />}
          />
        </Card>
      </Box>
    </Page>
  );
}

function ServedIn({ served_in, withdrawn }: Release) {
  if (!withdrawn) return <>{served_in?.join(', ') || 'no stage'}</>;
  return (
    <Typography sx={{ fontSize: 14, color: 'error.main' }}>
      withdrawn {exact(withdrawn.at)} by {withdrawn.by}: {withdrawn.because}
    </Typography>
  );
}

function Ways({ release, before }: { release: Release; before?: Release }) {
  const name = nameOf(release);
  return (
    <>
      {before && (
        <Link component={RouterLink} to={differencesOf(release, before)} sx={{ mr: 2 }}>
          differences from {before.version}
        </Link>
      )}
      <Link component={RouterLink} to={listOf(`"${name}" in node.releases`)} aria-label={`nodes with the desired release ${name}`}>
        nodes
      </Link>
    </>
  );
}

/** The release of the same kit that was published last before it, of those that are shown. */
function theOneBefore({ kit, published_at }: Release, shown: Release[]): Release | undefined {
  const earlier = shown.filter((one) => one.kit === kit && one.published_at < published_at);
  return earlier.toSorted((one, other) => other.published_at.localeCompare(one.published_at))[0];
}
