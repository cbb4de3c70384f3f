import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { serve, show } from '../testing';
import { PageBoundary } from './PageBoundary';

let fails = true;

function Page() {
  if (fails) throw new Error('labels has no entry __proto__');
  return <p>all is well</p>;
}

test('a page that fails says so in its place, is told to the server, and can be loaded again', async () => {
  vi.spyOn(console, 'error').mockImplementation(() => undefined);
  const told = serve({ 'POST /api/page-errors': { body: true } });
  fails = true;
  show(
    <PageBoundary>
      <Page />
    </PageBoundary>,
  );
  const alert = await screen.findByRole('alert');
  expect(alert.textContent).toContain('labels has no entry __proto__');
  expect(screen.getByRole('heading').textContent).toBe('This page failed');
  await vi.waitFor(() => expect(told.map((asked) => asked.path)).toContain('POST /api/page-errors'));
  fails = false;
  await userEvent.click(screen.getByRole('button', { name: 'Reload' }));
  expect(await screen.findByText('all is well')).toBeTruthy();
});
