import { lists, type Schemas } from '../api/client';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { roleWords } from '../words/words';
import { OnlyFor } from './ServerPage';

const PEOPLE: Column<Schemas['Person']>[] = [
  { field: 'name', head: 'Person', text: ({ name }) => name },
  { field: 'roles', head: 'Roles', text: ({ roles }) => roles.map(roleWords).join(', ') || 'none' },
  { field: 'sessions', head: 'Sessions', align: 'right', text: ({ sessions }) => String(sessions) },
  { field: 'tokens', head: 'Tokens', align: 'right', text: ({ tokens }) => String(tokens) },
  { field: 'last_at', head: 'Last request', text: ({ last_at }) => last_at ?? '', cell: ({ last_at }) => <Moment at={last_at} none="never" /> },
  { field: 'made_at', head: 'Added', text: ({ made_at }) => made_at, cell: ({ made_at }) => <Moment at={made_at} />, isHiddenFirst: true },
];

const TOKENS: Column<Schemas['Token']>[] = [
  { field: 'name', head: 'Token', text: ({ name }) => name },
  { field: 'person', head: 'Whose', text: ({ person }) => person },
  { field: 'made_for', head: 'For', text: ({ made_for }) => made_for },
  { field: 'ends_at', head: 'Until', text: ({ ends_at }) => ends_at ?? '', cell: ({ ends_at }) => <Moment at={ends_at} none="withdrawn" /> },
  { field: 'last_at', head: 'Last used', text: ({ last_at }) => last_at ?? '', cell: ({ last_at }) => <Moment at={last_at} none="never" /> },
  { field: 'made_at', head: 'Made', text: ({ made_at }) => made_at, cell: ({ made_at }) => <Moment at={made_at} />, isHiddenFirst: true },
];

/** Who may do what here, and with which tokens programs come. */
export function PeopleCards({ isAllowed }: { isAllowed: boolean }) {
  const people = useList('person', lists.people, { key: ['people'], prefix: 'people.', enabled: isAllowed });
  const tokens = useList('token', lists.tokens, { key: ['tokens'], prefix: 'tokens.', enabled: isAllowed });
  return (
    <>
      <Card title="People" aside={<CopiedCommand command={`constans person list${asArgument(people.filter)}`} />}>
        {isAllowed ? (
          <ListView
            label="People"
            nouns={['person', 'people']}
            list={people}
            columns={PEOPLE}
            keyOf={({ name }) => name}
            example={'"approver" in person.roles'}
            empty={null}
          />
        ) : (
          <OnlyFor who="an administrator" />
        )}
      </Card>
      <Card title="Tokens" aside={<CopiedCommand command={`constans token list${asArgument(tokens.filter)}`} />}>
        {isAllowed ? (
          <ListView
            label="Tokens"
            nouns={['token', 'tokens']}
            list={tokens}
            columns={TOKENS}
            keyOf={({ id }) => id}
            example={'token.person == "tor.havik"'}
            empty="No token is valid."
          />
        ) : (
          <OnlyFor who="an administrator" />
        )}
      </Card>
    </>
  );
}
