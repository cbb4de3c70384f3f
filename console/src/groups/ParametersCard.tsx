import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import type { Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { GivenElsewhere } from './GivenElsewhere';
import type { Part } from './GroupPage';
import { ValueField } from './ValueField';
import { describedValue } from './values';

/** The parameters of what the group assigns: their default, what the group gives, and which groups are put over it. */
export function ParametersCard({ draft, parameters, mayEdit }: Part & { parameters: Schemas['ParameterView'][] }) {
  if (parameters.length === 0) return null;
  return (
    <Card title="Parameters">
      <Table size="small" aria-label="Parameters" sx={{ tableLayout: 'fixed' }}>
        <TableHead>
          <TableRow>
            <TableCell sx={{ width: '38%' }}>Parameter</TableCell>
            <TableCell sx={{ width: '16%' }}>Default</TableCell>
            <TableCell sx={{ width: '22%' }}>Here</TableCell>
            <TableCell>In other groups of these nodes</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {parameters.map((parameter) => (
            <ParameterRow key={parameter.name} parameter={parameter} draft={draft} mayEdit={mayEdit} />
          ))}
        </TableBody>
      </Table>
    </Card>
  );
}

function ParameterRow({ parameter, draft, mayEdit }: Part & { parameter: Schemas['ParameterView'] }) {
  const { name, takes, note, is_declared, below, above } = parameter;
  const values = draft.draft.parameters ?? {};
  const set = (value: unknown) => {
    const { [name]: _, ...others } = values;
    draft.set({ parameters: value === undefined ? others : { ...others, [name]: value } });
  };
  return (
    <TableRow sx={{ verticalAlign: 'top' }}>
      <TableCell>
        <Address>{name}</Address>
        <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
          {is_declared ? takes : 'not declared by the newest release'}
          {note && `: ${note}`}
        </Typography>
      </TableCell>
      <TableCell>
        <Address>{describedValue(parameter.default)}</Address>
      </TableCell>
      <TableCell>
        <ValueField label={name} value={values[name]} isText={takes.startsWith('a text')} takes={takes} disabled={!mayEdit} onValue={set} />
      </TableCell>
      <TableCell>
        <GivenElsewhere below={below} above={above} />
      </TableCell>
    </TableRow>
  );
}
