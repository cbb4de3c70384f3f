import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Card } from '../looks/Card';
import { packageWords } from './clauseWords';
import { FailureReport } from './FailureReport';
import { NativeSteps } from './NativeSteps';

/** The package changes that correcting the package clauses would cause, simulated by the package manager. */
export function PackagesAhead({ preview }: { preview: Schemas['PackagePreview'] }) {
  return (
    <Box component="section" aria-label="Packages" sx={{ mb: 2 }}>
      <Card>
        <Typography sx={{ fontWeight: 600 }}>Packages that would be installed, removed or changed</Typography>
        {(preview.packages ?? []).map((change) => (
          <Typography key={change.package} sx={{ color: change.after ? undefined : 'warning.main' }}>
            {packageWords(change)}
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
