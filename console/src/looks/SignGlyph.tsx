import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { words } from '../words/words';
import lateMark from './glyphs/late_mark.svg?raw';

const drawings = import.meta.glob<string>('./glyphs/*.svg', { query: '?raw', import: 'default', eager: true });

/** The plumb line in the position of a sign. Beside its word it is only drawn; alone it is also named. */
export function SignGlyph({ sign, late = false, alone = false, size = 20 }: { sign: Schemas['Sign']; late?: boolean; alone?: boolean; size?: number }) {
  const drawn = (drawings[`./glyphs/${sign}.svg`] ?? '').replace(/role="img" aria-label="[^"]*"/, '');
  const name = alone ? { role: 'img', 'aria-label': late ? `${words(sign)}, late` : words(sign) } : { 'aria-hidden': true };
  return (
    <Box
      component="span"
      {...name}
      sx={{
        display: 'inline-block',
        position: 'relative',
        flex: 'none',
        width: size,
        height: size,
        verticalAlign: 'text-bottom',
        color: `sign.${sign}`,
        '& svg': { position: 'absolute', inset: 0, width: size, height: size },
      }}
      // Our own drawings, from the folder beside this file.
      dangerouslySetInnerHTML={{ __html: late ? drawn + lateMark : drawn }}
    />
  );
}
