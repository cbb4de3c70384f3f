import { screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { Schemas } from '../api/client';
import { show } from '../testing';
import { ComplianceTable } from './ComplianceTable';

test('the table is saved as CSV with every number that its rates are made of', async () => {
  let saved: Blob | undefined;
  vi.spyOn(URL, 'createObjectURL').mockImplementation((blob) => {
    saved = blob as Blob;
    return 'blob:saved';
  });
  const row = {
    key: 'SK-9',
    title: 'Tariffs, as decided',
    nodes: { without_deviation: 7, with_deviation: 2, with_critical: 1, conceded: 1, not_known: 3 },
    clauses: { compliant: 20, in_doubt: 2, noncompliant: 4, conceded: 5, unexamined: 6, unknown: 7 },
    rate_basis_points: 4761,
    rate_with_concessions_basis_points: null,
  } as unknown as Schemas['ComplianceRow'];
  show(<ComplianceTable by="control" rows={[row]} hasMoreRows={false} />);
  await userEvent.click(screen.getByRole('button', { name: 'CSV' }));
  const [heads, values] = ((await saved?.text()) ?? '').split('\r\n');
  expect(heads).toBe(
    'Control,Title,Clauses compliant,As found,With concessions,Noncompliant,Conceded,Unexamined,Unknown,In doubt' +
      ',Nodes without deviation,Nodes,Nodes with deviation,Nodes with a critical one,Nodes with only conceded ones,Nodes not known',
  );
  expect(values).toBe('SK-9,"Tariffs, as decided",20,47.61 %,–,4,5,6,7,2,7,13,2,1,1,3');
});
