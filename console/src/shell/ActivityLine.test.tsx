import { screen } from '@testing-library/react';
import { serve, show } from '../testing';
import { ActivityLine } from './ActivityLine';

test('an activity shows who started it, what it does, and its progress', async () => {
  const what = 'resolving states after a change of the group kiosks';
  const activity = { what, who: 'ilse.maren', done: 2_500, total: 10_000, began: '2026-11-23T07:42:10Z' };
  serve({ 'GET /api/activities': { body: [activity, { ...activity, who: 'tor.havik' }] } });
  show(<ActivityLine />);
  const line = await screen.findByTitle(`ilse.maren: ${what}`);
  expect(line.textContent).toBe(`ilse.maren: ${what}2,500 of 10,000 nodes, and 1 more`);
  expect(screen.getByRole('progressbar').getAttribute('aria-valuenow')).toBe('25');
});
