import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Card } from '../looks/Card';
import { packageWords } from './clauseWords';
import { FailureReport } from './FailureReport';
import { NativeSteps } from './NativeSteps';

/** What changing the packages that are out of line would come to, by the package manager's own reckoning. */
export function PackagesAhead({ preview }: { preview: Schemas['PackagePreview'] }) {
  return (
    <Box component="section" aria-label="Packages" sx={{ mb: 2 }}>
      <Card>
        <Typography sx={{ fontWeight: 600 }}>Packages that would come, go or change version</Typography>
        {(preview.packages ?? []).map((change) => (
          <Typography key={change.package} sx={{ color: change.after ? undefined : 'warning.main' }}>
            {packageWords(change)}
          </Typography>
        ))}
        {(preview.not_known ?? []).map((why) => (
          <Typography key={why} sx={{ color: 'warning.main' }}>
            Not known: {why}
          </Typography>
        ))}
        <FailureReport failure={preview.failure} />
        <NativeSteps title="How that was found out" steps={preview.native ?? []} />
      </Card>
    </Box>
  );
}
