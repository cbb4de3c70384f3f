import '@fontsource/source-sans-3/latin-400.css';
import '@fontsource/source-sans-3/latin-600.css';
import createCache from '@emotion/cache';
import { CacheProvider } from '@emotion/react';
import CssBaseline from '@mui/material/CssBaseline';
import { ThemeProvider } from '@mui/material/styles';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { StrictMode } from 'react';
import { createRoot } from 'react-dom/client';
import { BrowserRouter } from 'react-router';
import { Refused } from './api/client';
import { nonce } from './looks/nonce';
import { theme } from './looks/theme';
import { App } from './shell/App';

const cache = createCache({ key: 'constans', nonce, prepend: true });

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // Hearing changes by time passing, of which no event tells.
      refetchInterval: 20_000,
      retry: (failures, error) => failures < 2 && !(error instanceof Refused && error.problem.status >= 400 && error.problem.status < 500),
    },
  },
});

const root = document.getElementById('root');
if (!root) throw new Error('index.html has no element with the id root');
createRoot(root).render(
  <StrictMode>
    <CacheProvider value={cache}>
      <ThemeProvider theme={theme} defaultMode="system" noSsr>
        <CssBaseline enableColorScheme />
        <QueryClientProvider client={queries}>
          <BrowserRouter>
            <App />
          </BrowserRouter>
        </QueryClientProvider>
      </ThemeProvider>
    </CacheProvider>
  </StrictMode>,
);
