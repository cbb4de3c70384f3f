import Box from '@mui/material/Box';
import Link from '@mui/material/Link';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink, useParams, useSearchParams } from 'react-router';
import { api, type Schemas } from '../api/client';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Page } from '../shell/Page';
import { QueryView } from '../shell/QueryView';
import { KindReference } from './KindReference';

/** The reference of every kind; a field narrows the list to what one wants to achieve. */
export function KindsPage() {
  const kinds = useQuery({ queryKey: ['kinds'], queryFn: ({ signal }) => api.kinds(signal), staleTime: Infinity });
  return (
    <Page title="Kinds">
      <QueryView query={kinds}>{(kinds) => <KindParts kinds={kinds} />}</QueryView>
    </Page>
  );
}

function KindParts({ kinds }: { kinds: Schemas['KindPage'][] }) {
  const { kind: named } = useParams();
  const [parameters, setParameters] = useSearchParams();
  const wanted = parameters.get('find') ?? '';
  const listed = kinds.filter((kind) => fits(kind, wanted));
  const shown = kinds.find((kind) => kind.name === named) ?? listed[0];
  return (
    <Box sx={{ display: 'grid', gap: 2, gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: '300px minmax(0, 1fr)' }, alignItems: 'start' }}>
      <Card>
        <TextField
          size="small"
          fullWidth
          label="What do you want to achieve?"
          value={wanted}
          onChange={(event) => setParameters(event.target.value ? { find: event.target.value } : {}, { replace: true })}
        />
        <Box component="ul" aria-label="Kinds" sx={{ listStyle: 'none', m: 0, mt: 1.5, p: 0, display: 'grid', gap: 0.75 }}>
          {listed.map((kind) => (
            <li key={kind.name}>
              <Link
                component={RouterLink}
                to={{ pathname: `/kinds/${kind.name}`, search: parameters.toString() }}
                aria-current={kind.name === shown?.name ? 'page' : undefined}
              >
                {kind.name}
              </Link>
              <Typography sx={{ fontSize: 14, color: 'text.secondary', lineHeight: 1.3 }}>{kind.purpose}</Typography>
            </li>
          ))}
        </Box>
        {listed.length === 0 && <Typography sx={{ mt: 1 }}>No kind matches. A command clause can do what no kind does.</Typography>}
      </Card>
      {shown && (
        <Card title={shown.name} aside={<CopiedCommand command={`constans kind show ${shown.name}`} />}>
          <KindReference kind={shown} />
        </Card>
      )}
    </Box>
  );
}

/** Whether all words stand somewhere in what there is to know of a kind. */
function fits(kind: Schemas['KindPage'], wanted: string): boolean {
  const all = [kind.name, kind.purpose, ...kind.achieves, ...kind.properties.map((property) => `${property.name} ${property.note}`)].join(' ').toLowerCase();
  return wanted
    .toLowerCase()
    .split(/\s+/)
    .every((word) => all.includes(word));
}
