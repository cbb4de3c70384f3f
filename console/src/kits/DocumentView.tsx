import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useSearchParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { mono } from '../looks/theme';
import { QueryView } from '../shell/QueryView';

/** The files of a release, and the one that is chosen in the address. What is concealed is not shown. */
export function DocumentView({ release, files }: { release: Schemas['PublishedRelease']; files: Schemas['ReleaseFile'][] }) {
  const [parameters, setParameters] = useSearchParams();
  const chosen = parameters.get('file') ?? files.find((file) => file.path.startsWith('baselines/'))?.path ?? files[0]?.path ?? '';
  const choose = (path: string) => {
    const next = new URLSearchParams(parameters);
    next.set('file', path);
    setParameters(next, { replace: true });
  };
  const text = useQuery({
    queryKey: ['release', release.kit, release.version, 'text', chosen],
    queryFn: ({ signal }) => api.releaseText(release.kit, release.version, chosen, signal),
    enabled: chosen !== '',
  });
  return (
    <>
      <Box role="tablist" aria-label="Files" sx={{ display: 'flex', flexWrap: 'wrap', gap: 0.5, mb: 1 }}>
        {files.map((file) => (
          <Button
            key={file.path}
            role="tab"
            aria-selected={file.path === chosen}
            variant={file.path === chosen ? 'outlined' : 'text'}
            size="small"
            onClick={() => choose(file.path)}
            title={`${file.bytes} bytes`}
          >
            {file.path}
          </Button>
        ))}
      </Box>
      <QueryView query={text}>
        {({ text, concealed }) => (
          <>
            {concealed && <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>• replaces concealed values.</Typography>}
            {text == null ? (
              <Typography>Not a text, or larger than 256 KiB.</Typography>
            ) : (
              <Box
                component="pre"
                tabIndex={0}
                aria-label={chosen}
                sx={{ m: 0, p: 1.5, bgcolor: 'sunken', fontFamily: mono, fontSize: 13, lineHeight: 1.45, overflow: 'auto', maxHeight: 560 }}
              >
                {text}
              </Box>
            )}
          </>
        )}
      </QueryView>
    </>
  );
}
