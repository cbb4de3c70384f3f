import { ThemeProvider } from '@mui/material/styles';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render } from '@testing-library/react';
import type { ReactNode } from 'react';
import { MemoryRouter, useLocation } from 'react-router';
import { theme } from './looks/theme';

afterEach(cleanup);

/** Shows a part of the console at an address. */
export function show(part: ReactNode, address = '/') {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const shown = render(
    <ThemeProvider theme={theme} noSsr>
      <QueryClientProvider client={queries}>
        <MemoryRouter initialEntries={[address]}>
          {part}
          <Where />
        </MemoryRouter>
      </QueryClientProvider>
    </ThemeProvider>,
  );
  return { ...shown, client: queries };
}

function Where() {
  const { pathname, search } = useLocation();
  return <output data-testid="address">{decodeURIComponent(pathname + search)}</output>;
}

/** A server that answers just these requests; any other fails the test. */
export function serve(answers: Record<string, { status?: number; body: unknown; link?: string }>) {
  const asked: { path: string; body: string; headers: Headers }[] = [];
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url);
    const path = `${request.method} ${decodeURIComponent(url.pathname + url.search)}`;
    asked.push({ path, body: await request.text(), headers: request.headers });
    const answer = answers[path];
    if (!answer) throw new Error(`nobody was told what ${path} answers`);
    const kind = (answer.status ?? 200) < 400 ? 'application/json' : 'application/problem+json';
    const headers = { 'Content-Type': kind, ...(answer.link && { Link: answer.link }) };
    return new Response(JSON.stringify(answer.body), { status: answer.status ?? 200, headers });
  });
  return asked;
}
