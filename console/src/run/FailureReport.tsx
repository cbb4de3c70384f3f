import Box from '@mui/material/Box';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';

/** A failure: the message, the native command with its output, and what to do. */
export function FailureReport({ failure }: { failure?: Schemas['Failure'] | null }) {
  if (!failure) return null;
  const { command } = failure;
  return (
    <Box sx={{ mt: 1 }}>
      <Typography sx={{ color: 'status.failed', fontWeight: 600, overflowWrap: 'anywhere' }}>{failure.message}</Typography>
      {command && (
        <Box
          component="pre"
          aria-label="Native command and its output"
          sx={{ m: 0, mt: 0.5, p: 1.5, bgcolor: 'sunken', overflow: 'auto', fontSize: 13, whiteSpace: 'pre-wrap' }}
        >
          {`$ ${command.what}   (${command.exit === undefined || command.exit === null ? 'did not exit' : `exit status ${command.exit}`})\n${command.output || '(no output)'}`}
        </Box>
      )}
      {failure.remedy && <Typography sx={{ fontSize: 14, mt: 0.5 }}>What to do: {failure.remedy}</Typography>}
    </Box>
  );
}
