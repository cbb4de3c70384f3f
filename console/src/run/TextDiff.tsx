import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { refusalWords } from '../words/words';

/** How a file's text differed: from what was found to what is wanted. The statuses at the lines say it, the colour beside them repeats it. */
export function TextDiff({ diff, refused }: { diff?: Schemas['TextDiff'] | null; refused?: Schemas['TextDiffRefusal'] | null }) {
  if (refused) return <Typography sx={{ fontSize: 14, mt: 0.5 }}>Text difference not shown: {refusalWords(refused)}.</Typography>;
  if (!diff) return null;
  return (
    <Box component="pre" aria-label="Difference of the text" sx={{ m: 0, mt: 1, p: 1.5, bgcolor: 'sunken', overflow: 'auto', fontSize: 13, lineHeight: 1.45 }}>
      {diff.text
        .trimEnd()
        .split('\n')
        .map((line, at) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: the list never changes while it is shown, and equal lines occur
          <Box key={at} component="span" sx={{ display: 'block', pl: 1, borderLeft: '3px solid', borderColor: colourOf(line) }}>
            {line || ' '}
          </Box>
        ))}
      {diff.cut && 'truncated at 8 KiB'}
    </Box>
  );
}

function colourOf(line: string): string {
  if (line.startsWith('+')) return 'status.in_line';
  if (line.startsWith('-')) return 'status.drift_found';
  return 'transparent';
}
