import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import LinearProgress from '@mui/material/LinearProgress';
import type { UseQueryResult } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Refused } from '../api/client';
import { clock } from '../words/time';

/** Shows loading, failure, and stale data after a failed refresh; children draw the data. */
export function QueryView<T>({
  query,
  children,
}: {
  query: Pick<UseQueryResult<T, Error>, 'data' | 'error' | 'dataUpdatedAt'>;
  children: (data: T) => ReactNode;
}) {
  const { data, error, dataUpdatedAt } = query;
  if (data === undefined && !error) {
    return (
      <Box sx={{ minHeight: 240 }} aria-busy="true">
        <LinearProgress aria-label="loading" />
      </Box>
    );
  }
  const problem = error instanceof Refused ? error.problem : undefined;
  return (
    <>
      {error && (
        <Alert severity="error" variant="outlined" sx={{ mb: 2 }}>
          {problem?.title ?? error.message}
          {problem?.hint && `: ${problem.hint}`}
          {data !== undefined && `. The data shown is from ${clock(new Date(dataUpdatedAt).toISOString())}.`}
        </Alert>
      )}
      {data !== undefined && children(data)}
    </>
  );
}
