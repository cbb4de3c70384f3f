import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Card } from '../looks/Card';
import { FailureReport } from './FailureReport';
import { NativeSteps } from './NativeSteps';

/** The package changes that correcting the package clauses would cause, simulated by the package manager. */
export function PackagesAhead({ preview, changes }: { preview: Schemas['PackagePreview']; changes: string[] }) {
  return (
    <Box component="section" aria-label="Packages" sx={{ mb: 2 }}>
      <Card>
        <Typography sx={{ fontWeight: 600 }}>Packages that would be installed, removed or changed</Typography>
        {changes.map((change, at) => (
          <Typography key={change} sx={{ color: preview.packages?.[at]?.after ? undefined : 'warning.main' }}>
            {change}
          </Typography>
        ))}
        {(preview.not_known ?? []).map((why) => (
          <FailureReport key={why.message} failure={why} />
        ))}
        <FailureReport failure={preview.failure} />
        <NativeSteps title="Commands of the preview" steps={preview.native ?? []} />
      </Card>
    </Box>
  );
}
