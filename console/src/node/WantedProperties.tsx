import Box from '@mui/material/Box';
import { Address } from '../looks/Address';

/** The desired properties of a clause; contents by digest, concealed values by a keyed name. */
export function WantedProperties({ wanted }: { wanted: Record<string, unknown> }) {
  const properties = Object.entries(wanted);
  if (properties.length === 0) return null;
  return (
    <Box component="dl" sx={{ m: 0, mb: 1, display: 'grid', gridTemplateColumns: 'auto minmax(0, 1fr)', columnGap: 2, fontSize: 14 }}>
      {properties.map(([property, value]) => (
        <Box key={property} sx={{ display: 'contents' }}>
          <Box component="dt" sx={{ color: 'text.secondary' }}>
            {property}
          </Box>
          <Box component="dd" sx={{ m: 0 }}>
            <Address>{shown(value)}</Address>
          </Box>
        </Box>
      ))}
    </Box>
  );
}

function shown(value: unknown): string {
  if (typeof value === 'object' && value !== null && 'constans_sealed' in value) return 'concealed';
  return typeof value === 'string' ? value : JSON.stringify(value);
}
