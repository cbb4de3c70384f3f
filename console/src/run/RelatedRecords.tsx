import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { write, writeFirst } from '../words/sentence';
import { useNow } from '../words/useNow';

type Sentence = NonNullable<Schemas['ClauseWords']['related']>[number];

/** What the node had on record of the time in which something drifted. */
export function RelatedRecords({ words }: { words: Sentence[] }) {
  const now = useNow();
  if (words.length === 0) return null;
  return (
    <Box component="section" aria-label="Related records" sx={{ mt: 1 }}>
      <Typography sx={{ fontSize: 13, color: 'text.secondary' }}>On record there at the time it drifted: related, and no proof</Typography>
      <Box component="ul" sx={{ m: 0, pl: 2.5, fontSize: 14 }}>
        {words.map((words) => (
          <Box component="li" key={write(words, now)} sx={{ overflowWrap: 'anywhere' }}>
            {writeFirst(words, now)}
          </Box>
        ))}
      </Box>
    </Box>
  );
}
