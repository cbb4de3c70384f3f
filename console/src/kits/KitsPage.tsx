import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { listOf } from '../nodes/filter';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { exact } from '../words/time';
import { byKit, differencesOf, releaseAddress } from './releases';
import { StagesCard } from './StagesCard';

/** What is published: each kit with its releases, who published them, and which stages serve them. */
export function KitsPage() {
  const releases = useQuery({ queryKey: ['releases'], queryFn: ({ signal }) => api.releases(signal) });
  return (
    <Page title="Kits">
      <QueryView query={releases}>
        {(releases) =>
          releases.length === 0 ? (
            <Typography>
              No kit is published yet. Create one with <Address>constans kit new NAME</Address>, publish it with <Address>constans kit publish DIR</Address>.
            </Typography>
          ) : (
            <Box sx={{ display: 'grid', gap: 2 }}>
              <StagesCard />
              {byKit(releases).map(([kit, releases]) => (
                <KitCard key={kit} kit={kit} releases={releases} />
              ))}
            </Box>
          )
        }
      </QueryView>
    </Page>
  );
}

function KitCard({ kit, releases }: { kit: string; releases: Schemas['PublishedRelease'][] }) {
  return (
    <Card title={kit} aside={<CopiedCommand command={`constans kit log ${kit}`} />}>
      <Typography sx={{ color: 'text.secondary', mb: 1 }}>{releases[0]?.summary}</Typography>
      <Table size="small" aria-label={`Releases of ${kit}`} sx={{ tableLayout: 'fixed' }}>
        <TableHead>
          <TableRow>
            <TableCell sx={{ width: '18%' }}>Release</TableCell>
            <TableCell sx={{ width: '30%' }}>Published</TableCell>
            <TableCell sx={{ width: '14%' }}>Requires</TableCell>
            <TableCell sx={{ width: '18%' }}>Served in</TableCell>
            <TableCell>Compare, nodes</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {releases.map((release, at) => (
            <ReleaseRow key={release.version} release={release} before={releases[at + 1]} />
          ))}
        </TableBody>
      </Table>
    </Card>
  );
}

function ReleaseRow({ release, before }: { release: Schemas['PublishedRelease']; before?: Schemas['PublishedRelease'] }) {
  const name = `${release.kit}@${release.version}`;
  const requires = Object.entries(release.requires ?? {}).map(([kit, wanted]) => `${kit} ${String(wanted)}`);
  return (
    <TableRow>
      <TableCell>
        <Link component={RouterLink} to={releaseAddress(release)}>
          {name}
        </Link>
      </TableCell>
      <TableCell>
        {exact(release.published_at)} by {release.published_by}
        {release.withdrawn && (
          <Typography sx={{ fontSize: 14, color: 'error.main' }}>
            withdrawn {exact(release.withdrawn.at)} by {release.withdrawn.by}: {release.withdrawn.because}
          </Typography>
        )}
      </TableCell>
      <TableCell>{requires.join(', ') || '–'}</TableCell>
      <TableCell>{release.served_in?.join(', ') || 'no stage'}</TableCell>
      <TableCell sx={{ whiteSpace: 'nowrap' }}>
        {before && (
          <Link component={RouterLink} to={differencesOf(release, before)} sx={{ mr: 2 }}>
            differences from {before.version}
          </Link>
        )}
        <Link component={RouterLink} to={listOf(`"${name}" in node.releases`)} aria-label={`nodes with the desired release ${name}`}>
          nodes
        </Link>
      </TableCell>
    </TableRow>
  );
}
