import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { Link as RouterLink } from 'react-router';
import { lists, type Schemas } from '../api/client';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { changeAddress, progressWords } from './changeWords';

type Change = Schemas['ChangeSummary'];

const COLUMNS: Column<Change>[] = [
  {
    field: 'no',
    head: 'Change',
    text: ({ no }) => `C${no}`,
    cell: ({ no }) => (
      <Link component={RouterLink} to={changeAddress(no)}>
        C{no}
      </Link>
    ),
  },
  { field: 'what', head: 'What', text: ({ what }) => what },
  { field: 'who', head: 'Who', text: ({ who }) => who, isOneLine: true },
  { field: 'because', head: 'Why', text: ({ because }) => because ?? '' },
  { field: 'approved_by', head: 'Approved by', text: ({ approved_by }) => approved_by ?? '', isHiddenFirst: true },
  { field: 'drafted', head: 'When', text: ({ drafted }) => drafted, cell: ({ drafted }) => <Moment at={drafted} /> },
  { field: 'nodes', head: 'Nodes', align: 'right', text: ({ nodes }) => String(nodes), isHiddenFirst: true },
  { field: 'status', head: 'Progress', text: progressWords, isOneLine: true },
];

/** What changed: who, when, why, and how many nodes have it. */
export function ChangesPage() {
  const list = useList('change', lists.changes, { key: ['changes'] });
  return (
    <Page title="Changes">
      <Card title="Changes of desired state" aside={<CopiedCommand command={`constans change list${asArgument(list.filter)}`} />}>
        <ListView
          label="Changes"
          nouns={['change', 'changes']}
          list={list}
          columns={COLUMNS}
          keyOf={({ no }) => String(no)}
          example={'change.who == "ilse.maren" && change.outstanding > 0'}
          empty={
            <Typography>
              No changes yet. Assign a baseline with <Address>constans group set FILE</Address>.
            </Typography>
          }
        />
      </Card>
    </Page>
  );
}
