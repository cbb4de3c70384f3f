import { screen } from '@testing-library/react';
import { serve, show } from '../testing';
import { WorkLine } from './WorkLine';

test('long work says whose it is, what, and how far', async () => {
  const what = 'resolving states, since the group kiosks is set';
  const work = { what, who: 'ilse.maren', done: 2_500, total: 10_000, began: '2026-11-23T07:42:10Z' };
  serve({ 'GET /api/work': { body: [work, { ...work, who: 'tor.havik' }] } });
  show(<WorkLine />);
  const line = await screen.findByTitle(`ilse.maren: ${what}`);
  expect(line.textContent).toBe(`ilse.maren: ${what}2,500 of 10,000 nodes, and 1 more`);
  expect(screen.getByRole('progressbar').getAttribute('aria-valuenow')).toBe('25');
});
