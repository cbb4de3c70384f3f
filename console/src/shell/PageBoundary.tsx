import Alert from '@mui/material/Alert';
import Button from '@mui/material/Button';
import { useQueryClient } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { ErrorBoundary, type FallbackProps } from 'react-error-boundary';
import { useLocation } from 'react-router';
import { api } from '../api/client';
import { Page } from './Page';

const LONGEST_MESSAGE = 500;
const LONGEST_STACK = 4_000;

/** Contains a failure of a page: the page shows the error, other pages keep working, and the server logs the cause. */
export function PageBoundary({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  const queries = useQueryClient();
  const report = (error: unknown) => {
    const { message, stack } = error instanceof Error ? error : { message: String(error), stack: '' };
    // The page behaves the same if the report is lost.
    api
      .pageFailed({ page: pathname.slice(0, LONGEST_MESSAGE), message: message.slice(0, LONGEST_MESSAGE), stack: (stack ?? '').slice(0, LONGEST_STACK) })
      .catch(() => undefined);
  };
  return (
    <ErrorBoundary FallbackComponent={FailedPage} onError={report} onReset={() => void queries.resetQueries()} resetKeys={[pathname]}>
      {children}
    </ErrorBoundary>
  );
}

function FailedPage({ error, resetErrorBoundary }: FallbackProps) {
  return (
    <Page title="This page failed">
      <Alert
        severity="error"
        variant="outlined"
        action={
          <Button color="inherit" onClick={resetErrorBoundary}>
            Reload
          </Button>
        }
      >
        This is a defect of the console; the log of the server has the details: {error instanceof Error ? error.message : String(error)}
      </Alert>
    </Page>
  );
}
