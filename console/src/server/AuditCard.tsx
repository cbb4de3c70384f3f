import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import Typography from '@mui/material/Typography';
import { useInfiniteQuery, useMutation } from '@tanstack/react-query';
import { api, type Schemas } from '../api/client';
import { problemWords } from '../changes/ConfirmDialog';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { QueryView } from '../shell/QueryView';
import { clock, exact } from '../words/time';
import { OnlyFor, Simple } from './ServerPage';

/** The server sends so many at once. */
const PAGE = 100;

/** Who did what, and whether nobody altered that. */
export function AuditCard({ isAllowed }: { isAllowed: boolean }) {
  const entries = useInfiniteQuery({
    queryKey: ['audit'],
    queryFn: ({ pageParam, signal }) => api.audit({ before: pageParam }, signal),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => (page.length < PAGE ? undefined : page.at(-1)?.entry.id),
    enabled: isAllowed,
  });
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
              <CopiedCommand command="constans audit list" />
            </Box>
          )
        }
      >
        {verified.data && <Verified verified={verified.data} />}
        {verified.error && <Alert severity="error">{problemWords(verified.error)}</Alert>}
        {isAllowed ? (
          <QueryView query={entries}>
            {({ pages }) => (
              <>
                <Simple label="Audit trail" heads={['When', 'Who', 'Did', 'What']}>
                  {pages.flat().map(({ entry, at }) => (
                    <TableRow key={entry.id}>
                      <TableCell sx={{ whiteSpace: 'nowrap' }}>
                        <time dateTime={at} title={exact(at)}>
                          {clock(at)}
                        </time>
                      </TableCell>
                      <TableCell>{entry.who}</TableCell>
                      <TableCell>{entry.did}</TableCell>
                      <TableCell sx={{ overflowWrap: 'anywhere' }}>{entry.subject}</TableCell>
                    </TableRow>
                  ))}
                </Simple>
                {entries.hasNextPage && (
                  <Button sx={{ mt: 1 }} variant="outlined" size="small" disabled={entries.isFetchingNextPage} onClick={() => void entries.fetchNextPage()}>
                    Older entries
                  </Button>
                )}
              </>
            )}
          </QueryView>
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
