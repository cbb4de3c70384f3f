import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Typography from '@mui/material/Typography';
import { useMutation } from '@tanstack/react-query';
import { api, lists, type Schemas } from '../api/client';
import { problemWords } from '../api/problemWords';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { OnlyFor } from './ServerPage';

const COLUMNS: Column<Schemas['ShownEntry']>[] = [
  { field: 'at', head: 'When', text: ({ at }) => at, cell: ({ at }) => <Moment at={at} /> },
  { field: 'who', head: 'Who', text: ({ entry }) => entry.who },
  { field: 'did', head: 'Did', text: ({ entry }) => entry.did },
  { field: 'subject', head: 'What', text: ({ entry }) => entry.subject },
  { field: 'id', head: 'Entry', text: ({ entry }) => String(entry.id), isHiddenFirst: true },
  { field: 'digest', head: 'Digest', text: ({ digest }) => digest ?? '', isHiddenFirst: true },
];

/** Who did what, and whether nobody altered that. */
export function AuditCard({ isAllowed }: { isAllowed: boolean }) {
  const list = useList('entry', lists.audit, { key: ['audit'], prefix: 'audit.', enabled: isAllowed });
  const verified = useMutation({ mutationFn: () => api.verifyAudit() });
  return (
    <Box sx={{ gridColumn: '1 / -1' }}>
      <Card
        title="Audit trail"
        aside={
          isAllowed && (
            <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
              <Button variant="outlined" size="small" disabled={verified.isPending} onClick={() => verified.mutate()}>
                {verified.isPending ? 'recomputing' : 'Verify'}
              </Button>
              <CopiedCommand command={`constans audit list${asArgument(list.filter)}`} />
            </Box>
          )
        }
      >
        {verified.data && <Verified verified={verified.data} />}
        {verified.error && <Alert severity="error">{problemWords(verified.error)}</Alert>}
        {isAllowed ? (
          <ListView
            label="Audit trail"
            nouns={['entry', 'entries']}
            list={list}
            columns={COLUMNS}
            keyOf={({ entry }) => String(entry.id)}
            example={'entry.who == "ilse.maren" && entry.at > "2026-11-01"'}
            empty="Nobody did anything yet."
          />
        ) : (
          <OnlyFor who="who may see the audit trail" />
        )}
      </Card>
    </Box>
  );
}

function Verified({ verified }: { verified: Schemas['AuditVerification'] }) {
  const { entries, unchained, last, broken_at } = verified;
  return (
    <Alert severity={broken_at == null ? 'success' : 'error'} variant="outlined" sx={{ mb: 1.5 }} role="status">
      {broken_at == null
        ? `All ${entries} chained entries are as they were written${unchained > 0 ? `; ${unchained} are not chained yet` : ''}.`
        : `Entry ${broken_at} was altered, removed or moved.`}
      {last && <Typography sx={{ fontSize: 13, overflowWrap: 'anywhere' }}>The last digest, to be noted elsewhere: {last}</Typography>}
    </Alert>
  );
}
