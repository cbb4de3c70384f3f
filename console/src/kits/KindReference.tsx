import Box from '@mui/material/Box';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { PropertyList } from '../looks/PropertyList';
import { mono } from '../looks/theme';

/** What there is to know of one kind, with an example to paste. */
export function KindReference({ kind }: { kind: Schemas['KindPage'] }) {
  return (
    <>
      <Typography>{kind.purpose}.</Typography>
      <Box sx={{ my: 1.5 }}>
        <PropertyList properties={properties(kind)} />
      </Box>
      <Table size="small" aria-label={`Properties of ${kind.name}`}>
        <TableHead>
          <TableRow>
            <TableCell>Property</TableCell>
            <TableCell>Takes</TableCell>
            <TableCell>Meaning</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {kind.properties.map((property) => (
            <TableRow key={property.name}>
              <TableCell>
                <Address>{property.name}</Address>
              </TableCell>
              <TableCell>{property.takes}</TableCell>
              <TableCell>
                {property.note}
                {property.required && '; required'}
                {property.default != null && `; ${property.default} if left out`}
                {property.concealed && '; never shown'}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      <Box component="pre" aria-label="Example" tabIndex={0} sx={{ mt: 2, mb: 0, p: 1.5, bgcolor: 'sunken', fontFamily: mono, fontSize: 13, overflow: 'auto' }}>
        {kind.example}
      </Box>
    </>
  );
}

function properties(kind: Schemas['KindPage']): [string, string][] {
  return [
    ['uses', kind.achieves.join('; ')],
    ['names', kind.names],
    ['claims', kind.claims],
    ['needs on the node', kind.on_node],
    ['reacts by', kind.reactions.join(', ')],
    ['gone', kind.can_be_gone ? 'true' : ''],
    ['one at most', kind.either.join(', ')],
    ['corrected', kind.correctable ? '' : 'never: reports only'],
  ].filter((fact): fact is [string, string] => fact[1] !== '');
}
