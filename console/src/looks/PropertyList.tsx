import Box from '@mui/material/Box';

/** Properties: a name and a value on each line. */
export function PropertyList({ properties }: { properties: [string, string][] }) {
  return (
    <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: 'max-content minmax(0, 1fr)', columnGap: 2, rowGap: 0.25, fontSize: 14 }}>
      {properties.map(([what, value]) => (
        <Box key={what} sx={{ display: 'contents' }}>
          <Box component="dt" sx={{ color: 'text.secondary' }}>
            {what}
          </Box>
          <Box component="dd" sx={{ m: 0, overflowWrap: 'anywhere' }}>
            {value}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
