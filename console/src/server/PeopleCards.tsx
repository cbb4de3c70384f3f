import Box from '@mui/material/Box';
import TableCell from '@mui/material/TableCell';
import TableRow from '@mui/material/TableRow';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { QueryView } from '../shell/QueryView';
import { clock, exact } from '../words/time';
import { roleWords } from '../words/words';
import { OnlyFor, Simple } from './ServerPage';

/** Who may do what here, and with which tokens programs come. */
export function PeopleCards({ isAllowed }: { isAllowed: boolean }) {
  const people = useQuery({ queryKey: ['people'], queryFn: ({ signal }) => api.people(signal), enabled: isAllowed });
  const tokens = useQuery({ queryKey: ['tokens'], queryFn: ({ signal }) => api.tokens(signal), enabled: isAllowed });
  return (
    <>
      <Card title="People" aside={<CopiedCommand command="constans person list" />}>
        {isAllowed ? (
          <QueryView query={people}>
            {(people) => (
              <Simple label="People" heads={['Person', 'Roles', 'Sessions', 'Tokens', 'Last request']}>
                {people.map((person) => (
                  <TableRow key={person.name}>
                    <TableCell>{person.name}</TableCell>
                    <TableCell>{person.roles.map(roleWords).join(', ') || 'none'}</TableCell>
                    <TableCell>{person.sessions}</TableCell>
                    <TableCell>{person.tokens}</TableCell>
                    <TableCell>
                      <When at={person.last_at} />
                    </TableCell>
                  </TableRow>
                ))}
              </Simple>
            )}
          </QueryView>
        ) : (
          <OnlyFor who="an administrator" />
        )}
      </Card>
      <Card title="Tokens" aside={<CopiedCommand command="constans token list" />}>
        {isAllowed ? (
          <QueryView query={tokens}>
            {(tokens) => (
              <Simple label="Tokens" heads={['Token', 'Whose', 'For', 'Until', 'Last used']}>
                {tokens.map((token) => (
                  <TableRow key={token.id}>
                    <TableCell>{token.name}</TableCell>
                    <TableCell>{token.person}</TableCell>
                    <TableCell>{token.made_for}</TableCell>
                    <TableCell>
                      <When at={token.ends_at} none="withdrawn" />
                    </TableCell>
                    <TableCell>
                      <When at={token.last_at} />
                    </TableCell>
                  </TableRow>
                ))}
              </Simple>
            )}
          </QueryView>
        ) : (
          <OnlyFor who="an administrator" />
        )}
      </Card>
    </>
  );
}

function When({ at, none = 'never' }: { at?: string | null; none?: string }) {
  if (!at) return <Box component="span">{none}</Box>;
  return (
    <time dateTime={at} title={exact(at)} style={{ whiteSpace: 'nowrap' }}>
      {clock(at)}
    </time>
  );
}
