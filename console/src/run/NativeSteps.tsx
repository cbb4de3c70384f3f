import Box from '@mui/material/Box';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';

/** Native commands and system calls, a line each, folded away. */
export function NativeSteps({ title, steps }: { title: string; steps: Schemas['NativeStep'][] }) {
  if (steps.length === 0) return null;
  return (
    <Box component="details" sx={{ mt: 0.5, fontSize: 14 }}>
      <summary>{title}</summary>
      {steps.map((step, at) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: the list never changes while it is shown, and equal lines occur
        <Box key={at}>
          <Address>{`${step.exit === undefined || step.exit === null ? '·' : '$'} ${step.what}`}</Address>
          {step.exit !== undefined && step.exit !== null && ` (exit status ${step.exit})`}
        </Box>
      ))}
    </Box>
  );
}
