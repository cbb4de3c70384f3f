import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { sideWords } from '../run/Differences';
import { TextDiff } from '../run/TextDiff';

const WORDS: Record<Schemas['Where'], string> = { both: 'changed', only_from: 'removed', only_to: 'new' };

/** In what two releases differ: clause by clause, property by property, and in which files. */
export function KitDifference({ difference }: { difference: Schemas['KitDifference'] }) {
  const { kit, baselines, files } = difference;
  if (kit.length + baselines.length + files.length === 0) return <Typography sx={{ mt: 1 }}>No differences.</Typography>;
  return (
    <Box sx={{ mt: 1, display: 'grid', gridTemplateColumns: 'minmax(0, 1fr)', gap: 1.5 }}>
      <Changes of={kit} />
      {baselines.map((baseline) => (
        <Box key={baseline.name} component="section" aria-label={`baseline ${baseline.name}`}>
          <Head what={`baseline ${baseline.name}`} is={baseline.is} />
          <Changes of={baseline.differences} />
          {baseline.clauses.map((clause) => (
            <Box key={clause.address} sx={{ pl: 2 }}>
              <Head what={clause.address} is={clause.is} />
              <Changes of={clause.differences} />
            </Box>
          ))}
        </Box>
      ))}
      {files.map((file) => (
        <div key={file.path}>
          <Head what={file.path} is={file.is} />
          <TextDiff diff={withoutHead(file.text)} />
        </div>
      ))}
    </Box>
  );
}

/** The first two lines of a diff name its sides, which the page does already. */
function withoutHead(diff: Schemas['TextDiff'] | null | undefined) {
  return diff && { ...diff, text: diff.text.split('\n').slice(2).join('\n') };
}

function Head({ what, is }: { what: string; is: Schemas['Where'] }) {
  return (
    <Typography sx={{ mt: 0.5 }}>
      <strong>{what}</strong>{' '}
      <Box component="span" sx={{ color: 'text.secondary', fontSize: 14 }}>
        {WORDS[is]}
      </Box>
    </Typography>
  );
}

function Changes({ of }: { of: Schemas['Difference'][] }) {
  return (
    <Box component="dl" sx={{ m: 0, pl: 2, display: 'grid', gridTemplateColumns: 'max-content minmax(0, 1fr)', columnGap: 2, fontSize: 14 }}>
      {of.map(({ property, found, wanted }) => (
        <Box key={property} sx={{ display: 'contents' }}>
          <Box component="dt" sx={{ color: 'text.secondary' }}>
            {property}
          </Box>
          <Box component="dd" sx={{ m: 0 }}>
            <Address>{`${sideWords(found)} → ${sideWords(wanted)}`}</Address>
          </Box>
        </Box>
      ))}
    </Box>
  );
}
