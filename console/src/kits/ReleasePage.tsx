import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink, useParams, useSearchParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { ComplianceOf } from '../compliance/ComplianceOf';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { RunNowButton } from '../sweeps/RunNowButton';
import { exact } from '../words/time';
import { BaselineText } from './BaselineText';
import { DocumentView } from './DocumentView';
import { KitDifference } from './KitDifference';
import { ServeDialog } from './ServeDialog';

/** One release: what it wants in plain words, its documents, and how it differs from another one. */
export function ReleasePage() {
  const { kit = '', version = '' } = useParams();
  const release = useQuery({ queryKey: ['release', kit, version], queryFn: ({ signal }) => api.release(kit, version, signal) });
  return (
    <Page title={`${kit}@${version}`} hasOwnHeading>
      <Typography sx={{ fontSize: 14, mb: 0.5 }}>
        <Link component={RouterLink} to="/kits">
          Kits
        </Link>{' '}
        / {kit}@{version}
      </Typography>
      <QueryView query={release}>{(shown) => <ReleaseParts shown={shown} />}</QueryView>
    </Page>
  );
}

function ReleaseParts({ shown }: { shown: Schemas['ReleaseShown'] }) {
  const { release, page, files } = shown;
  return (
    <>
      <ReleaseHead release={release} baselines={page.baselines.map(({ name }) => name)} />
      <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 1fr) minmax(0, 1fr)' }, alignItems: 'start' }}>
        <Card title="Desired state">
          {page.baselines.map((baseline) => (
            <BaselineText key={baseline.name} kit={release.kit} baseline={baseline} />
          ))}
        </Card>
        <Box sx={{ display: 'grid', gap: 2, minWidth: 0 }}>
          <Comparison release={release} />
          <Card title="Documents">
            <DocumentView release={release} files={files} />
          </Card>
        </Box>
      </Box>
    </>
  );
}

function ReleaseHead({ release, baselines }: { release: Schemas['PublishedRelease']; baselines: string[] }) {
  const session = useQuery(sessionQuery);
  const [isServing, setServing] = useState(false);
  const may = session.data?.permissions ?? [];
  const mayHandOut = may.includes('stage.serve') && may.includes('group.edit');
  const isOffered = mayHandOut || may.includes('change.request');
  const served = release.served_in?.length ? `served in ${release.served_in.join(', ')}` : 'not served';
  return (
    <Box sx={{ mb: 2 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
        <Typography variant="h1">
          {release.kit}@{release.version}
        </Typography>
        <Box sx={{ flex: 1 }} />
        {!release.withdrawn && (
          <Button variant="outlined" size="small" disabled={!isOffered} onClick={() => setServing(true)}>
            Serve…
          </Button>
        )}
        <RunNowButton
          filter={`${JSON.stringify(`${release.kit}@${release.version}`)} in node.releases`}
          where={`nodes with ${release.kit}@${release.version}`}
        />
        <CopiedCommand command={`constans kit log ${release.kit}`} />
      </Box>
      <Typography>{release.summary}</Typography>
      <ComplianceOf by="release" name={`${release.kit}@${release.version}`} />
      <Typography sx={{ color: 'text.secondary' }}>
        Published {exact(release.published_at)} by {release.published_by}, {served}; {release.digest.slice(0, 15)}
      </Typography>
      {!isOffered && (
        <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>
          Operators and publishers request what a stage serves; approvers and administrators decide it.
        </Typography>
      )}
      {isServing && <ServeDialog kit={release.kit} version={release.version} baselines={baselines} mayHandOut={mayHandOut} onClose={() => setServing(false)} />}
      {release.withdrawn && (
        <Alert severity="warning" variant="outlined" sx={{ mt: 1 }}>
          Withdrawn {exact(release.withdrawn.at)} by {release.withdrawn.by}: {release.withdrawn.because}. No stage can serve it again.
        </Alert>
      )}
    </Box>
  );
}

/** How the release differs from the one that is chosen in the address, else from the one before it. */
function Comparison({ release }: { release: Schemas['PublishedRelease'] }) {
  const [parameters, setParameters] = useSearchParams();
  const log = useQuery({ queryKey: ['kit', release.kit, 'log'], queryFn: ({ signal }) => api.kitLog(release.kit, signal) });
  const versions = (log.data ?? []).map((logged) => logged.release.version);
  const from = parameters.get('from') ?? versions[versions.indexOf(release.version) + 1] ?? '';
  const name = (version: string) => `${release.kit}@${version}`;
  const difference = useQuery({
    queryKey: ['compare', name(from), name(release.version)],
    queryFn: ({ signal }) => api.compareReleases(name(from), name(release.version), signal),
    enabled: from !== '',
  });
  return (
    <Card title="Differences" aside={from && <CopiedCommand command={`constans kit diff ${name(from)} ${name(release.version)}`} />}>
      {versions.length < 2 ? (
        <Typography sx={{ color: 'text.secondary' }}>This is the only release of {release.kit}.</Typography>
      ) : (
        <>
          <TextField
            select
            size="small"
            label="from"
            value={versions.includes(from) ? from : ''}
            onChange={(event) => setParameters({ from: event.target.value }, { replace: true })}
            sx={{ minWidth: 140 }}
          >
            {versions
              .filter((version) => version !== release.version)
              .map((version) => (
                <MenuItem key={version} value={version}>
                  {version}
                </MenuItem>
              ))}
          </TextField>
          {from === '' ? (
            <Typography sx={{ mt: 1 }}>It is the first one. Choose another to compare it with.</Typography>
          ) : (
            <QueryView query={difference}>{(difference) => <KitDifference difference={difference} />}</QueryView>
          )}
        </>
      )}
    </Card>
  );
}
