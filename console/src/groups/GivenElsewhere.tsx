import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { givenWords } from './groupWords';

/** What other groups give to some of the nodes: over the group's own value, or below it. */
export function GivenElsewhere({ below, above }: { below: Schemas['GivenBy'][]; above: Schemas['GivenBy'][] }) {
  return (
    <>
      {above.map((given) => (
        <Typography key={given.group} sx={{ fontSize: 14 }}>
          <b>{given.words}</b> put over it by {givenWords(given)}
        </Typography>
      ))}
      {below.map((given) => (
        <Typography key={given.group} sx={{ fontSize: 14, color: 'text.secondary' }}>
          {given.words} below it by {givenWords(given)}
        </Typography>
      ))}
      {below.length + above.length === 0 && '–'}
    </>
  );
}
