import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { statusWords } from '../words/words';
import { StatusGlyph } from './StatusGlyph';

/** A status: its symbol beside its word. */
export function StatusWord({ status, late = false, word }: { status: Schemas['NodeStatus']; late?: boolean; word?: string }) {
  return (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.75, whiteSpace: 'nowrap' }}>
      <StatusGlyph status={status} late={late} />
      <span>{(word ?? statusWords(status)) + (late ? ', late' : '')}</span>
    </Box>
  );
}
