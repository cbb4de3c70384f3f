import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { statusWords } from '../words/words';
import lateMark from './glyphs/late_mark.svg?raw';

const drawings = import.meta.glob<string>('./glyphs/*.svg', { query: '?raw', import: 'default', eager: true });

/** The symbol of a status. Beside its word it is decorative; alone it has an accessible name. */
export function StatusGlyph({
  status,
  late = false,
  alone = false,
  size = 20,
}: {
  status: Schemas['NodeStatus'];
  late?: boolean;
  alone?: boolean;
  size?: number;
}) {
  const drawn = (drawings[`./glyphs/${status}.svg`] ?? '').replace(/role="img" aria-label="[^"]*"/, '');
  const name = alone ? { role: 'img', 'aria-label': late ? `${statusWords(status)}, late` : statusWords(status) } : { 'aria-hidden': true };
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
        color: `status.${status}`,
        '& svg': { position: 'absolute', inset: 0, width: size, height: size },
      }}
      // biome-ignore lint/security/noDangerouslySetInnerHtml: our own drawings, from the folder beside this file
      dangerouslySetInnerHTML={{ __html: late ? drawn + lateMark : drawn }}
    />
  );
}
