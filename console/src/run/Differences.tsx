import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Wide } from '../looks/Wide';

/** Each property that differed, desired and actual value side by side. */
export function Differences({ differences, title = 'Differences' }: { differences: Schemas['Difference'][]; title?: string }) {
  if (differences.length === 0) return null;
  return (
    <Wide>
      <Table size="small" aria-label={title} sx={{ mt: 1, width: 'auto' }}>
        <TableHead>
          <TableRow>
            <TableCell>{title === 'Differences' ? 'Property' : title}</TableCell>
            <TableCell>Desired</TableCell>
            <TableCell>Actual</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {differences.map(({ property, wanted, found }) => (
            <TableRow key={property}>
              <TableCell>{property}</TableCell>
              <TableCell>
                <Address>{sideWords(wanted)}</Address>
              </TableCell>
              <TableCell>
                <Address>{sideWords(found)}</Address>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Wide>
  );
}

/** One side of a difference in words. */
export function sideWords(side: Schemas['Side']): string {
  switch (side.is) {
    case 'value':
      return typeof side.value === 'string' ? side.value : JSON.stringify(side.value);
    case 'content':
      return `${side.bytes} bytes, ${side.digest.slice(0, 19)}`;
    case 'concealed':
      return 'concealed';
    case 'absent':
      return 'absent';
    default:
      return `could not be read: ${side.reason}`;
  }
}
