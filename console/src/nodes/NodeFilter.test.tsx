import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Refused } from '../api/client';
import { serve, show } from '../testing';
import { NodeFilter } from './NodeFilter';

test('a field is completed by Tab and applied by Enter', async () => {
  serve({ 'GET /api/nodes': { body: { nodes: [], next: null, undecidable: 0 } } });
  const applied = vi.fn();
  show(<NodeFilter filter="" onFilter={applied} error={null} />);
  const field = screen.getByLabelText('Filter');
  await userEvent.type(field, 'node.stat');
  expect(screen.getByRole('option', { name: 'node.status' })).toBeTruthy();
  await userEvent.keyboard('{Tab} == "failed"{Enter}');
  expect(applied).toHaveBeenCalledWith('node.status == "failed"');
});

test('what is wrong with a filter is said below it, with what to do, and what was typed stays', () => {
  const error = new Refused({ type: 'filter', title: '`node.sing` is not known', status: 422, hint: 'did you mean `node.status`?' });
  show(<NodeFilter filter={'node.sing == "failed"'} onFilter={vi.fn()} error={error} />);
  expect(screen.getByRole('alert').textContent).toBe('`node.sing` is not known — did you mean `node.status`?');
  expect(screen.getByLabelText<HTMLInputElement>('Filter').value).toBe('node.sing == "failed"');
});
