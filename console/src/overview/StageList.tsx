import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';

/** The stages in order, with the releases that each serves. */
export function StageList({ stages }: { stages: Schemas['Stage'][] }) {
  return (
    <Box component="dl" sx={{ m: 0, display: 'grid', gridTemplateColumns: 'auto minmax(0, 1fr)', columnGap: 2, rowGap: 0.5 }}>
      {stages.map((stage) => (
        <Box key={stage.name} sx={{ display: 'contents' }}>
          <Typography component="dt">{stage.name}</Typography>
          <Box component="dd" sx={{ m: 0 }}>
            {stage.serves.length === 0 ? (
              <Typography sx={{ color: 'text.secondary' }}>
                no releases yet: <Address>{`constans stage serve ${stage.name} KIT@VERSION`}</Address>
              </Typography>
            ) : (
              stage.serves.map((release) => (
                <div key={release}>
                  <Address>{release}</Address>
                </div>
              ))
            )}
          </Box>
        </Box>
      ))}
    </Box>
  );
}
