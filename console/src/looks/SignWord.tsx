import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { words } from '../words/words';
import { SignGlyph } from './SignGlyph';

/** A sign as it is always shown: its glyph beside its word. */
export function SignWord({ sign, late = false, word }: { sign: Schemas['Sign']; late?: boolean; word?: string }) {
  return (
    <Box component="span" sx={{ display: 'inline-flex', alignItems: 'center', gap: 0.75, whiteSpace: 'nowrap' }}>
      <SignGlyph sign={sign} late={late} />
      <span>{(word ?? words(sign)) + (late ? ', late' : '')}</span>
    </Box>
  );
}
