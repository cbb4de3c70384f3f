import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Link from '@mui/material/Link';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link as RouterLink } from 'react-router';
import { api, lists, type Schemas } from '../api/client';
import { BulkBar, type Outcome, useForEach } from '../lists/Bulk';
import { asArgument } from '../lists/filter';
import { ListView } from '../lists/ListView';
import type { Column } from '../lists/RecordTable';
import { useList } from '../lists/useList';
import { Card } from '../looks/Card';
import { CopiedCommand } from '../looks/CopiedCommand';
import { Moment } from '../looks/Moment';
import { Page } from '../shell/Page';
import { useParameters } from '../shell/parameters';
import { QueryView } from '../shell/QueryView';
import { sessionQuery } from '../shell/session';
import { clock } from '../words/time';
import { count } from '../words/words';
import { JoiningTabs } from './JoiningTabs';
import { conditionWords, placementWords } from './joiningWords';
import { RuleDialog } from './RuleDialog';

type Rule = Schemas['AdmissionRuleShown'];

/** Admission rules: which machines are let in without a person who looks at each of them. */
export function RulesPage() {
  const [parameters, set] = useParameters();
  const list = useList('rule', lists.admissionRules, { key: ['admission rules'] });
  const session = useQuery(sessionQuery);
  const [selected, setSelected] = useState<Set<string>>(new Set());
  const [outcome, setOutcome] = useState<Outcome>();
  const end = useForEach(
    (no) => api.endAdmissionRule(Number(no)),
    (outcome) => {
      setOutcome(outcome);
      setSelected(new Set());
    },
  );
  const mayDecide = session.data?.permissions.includes('join.approve') ?? false;
  const shown = Number(parameters.get('rule'));
  return (
    <Page title="Admission rules" heading={<JoiningTabs />}>
      <Box sx={{ display: 'grid', gap: 2 }}>
        <Card
          title="Admission rules"
          aside={
            <Box sx={{ display: 'flex', gap: 2, alignItems: 'center' }}>
              <Button variant="contained" disabled={!mayDecide} onClick={() => set({ make: 'yes' })}>
                Make a rule…
              </Button>
              <CopiedCommand command={`constans admission list${asArgument(list.filter)}`} />
            </Box>
          }
        >
          <Typography sx={{ color: 'text.secondary', mb: 1 }}>
            A machine that meets all conditions of a rule is let in when it asks. One that was refused before, was revoked, or claims a name in use always waits
            for a person.
            {!mayDecide && ' Rules are made by approvers and administrators.'}
          </Typography>
          <BulkBar nouns={['rule', 'rules']} selected={selected} onSelected={setSelected} outcome={outcome} done="ended">
            <Button variant="outlined" size="small" disabled={end.isPending} onClick={() => end.mutate([...selected])}>
              End them
            </Button>
          </BulkBar>
          <ListView
            label="Admission rules"
            nouns={['rule', 'rules']}
            list={list}
            columns={COLUMNS}
            keyOf={({ no }) => String(no)}
            example={'rule.status == "in_force" && rule.let_in > 0'}
            empty={<Typography>There are none: each request is approved by a person.</Typography>}
            selection={{ selected, onSelected: setSelected, label: ({ no }) => `A${no}`, isDisabled: !mayDecide }}
            actions={(rule) => (
              <>
                <Button variant="text" size="small" onClick={() => set({ rule: String(rule.no) })} aria-label={`Whom it let in A${rule.no}`}>
                  Whom it let in
                </Button>
                {!['ended', 'over'].includes(rule.status) && (
                  <Button
                    variant="text"
                    size="small"
                    disabled={!mayDecide || end.isPending}
                    onClick={() => end.mutate([String(rule.no)])}
                    aria-label={`End A${rule.no}`}
                  >
                    End
                  </Button>
                )}
              </>
            )}
          />
        </Card>
        {shown > 0 && <RuleCard no={shown} onClose={() => set({ rule: null })} />}
      </Box>
      {parameters.has('make') && mayDecide && <RuleDialog onClose={() => set({ make: null })} onMade={(no) => set({ make: null, rule: String(no) })} />}
    </Page>
  );
}

const COLUMNS: Column<Rule>[] = [
  { field: 'no', head: 'Rule', text: ({ no }) => `A${no}` },
  { field: 'status', head: 'How far', text: statusWords },
  {
    field: 'fits',
    head: 'Fits, places',
    text: (rule) => conditionWords(rule.rule, rule.table_rows),
    cell: (rule) => (
      <>
        {conditionWords(rule.rule, rule.table_rows)}
        <Box sx={{ color: 'text.secondary', fontSize: 13 }}>{placementWords(rule.placement)}</Box>
        {rule.status === 'in_force' &&
          rule.warnings.map((warning) => (
            <Box key={warning} sx={{ fontSize: 13, color: 'warning.main' }}>
              {warning}
            </Box>
          ))}
      </>
    ),
  },
  {
    field: 'let_in',
    head: 'Let in',
    align: 'right',
    text: ({ let_in, at_most }) => let_in.toLocaleString('en') + (at_most ? ` of ${at_most.toLocaleString('en')}` : ''),
    isOneLine: true,
  },
  { field: 'made_by', head: 'Made by', text: ({ made_by }) => made_by },
  { field: 'made_at', head: 'When', text: ({ made_at }) => made_at, cell: ({ made_at }) => <Moment at={made_at} /> },
  { field: 'because', head: 'Why', text: ({ because }) => because },
];

function statusWords(rule: Rule): string {
  switch (rule.status) {
    case 'in_force':
      return `in force until ${clock(rule.until)}`;
    case 'used_up':
      return 'has let in as many as it may';
    case 'over':
      return `over since ${clock(rule.until)}`;
    case 'ended':
      return `ended by ${rule.ended_by}`;
    case 'suspended':
      return `lets nobody in: ${rule.made_by} may no longer approve`;
  }
}

/** Whom a rule let in, and whom its table expects. */
function RuleCard({ no, onClose }: { no: number; onClose: () => void }) {
  const rule = useQuery({ queryKey: ['admission rule', no], queryFn: ({ signal }) => api.admissionRule(no, signal) });
  return (
    <Card
      title={`A${no}: whom it let in`}
      aside={
        <Box sx={{ display: 'flex', gap: 2 }}>
          <CopiedCommand command={`constans admission show A${no}`} />
          <Button variant="text" onClick={onClose}>
            Close
          </Button>
        </Box>
      }
    >
      <QueryView query={rule}>{(whole) => <LetIn whole={whole} />}</QueryView>
    </Card>
  );
}

function LetIn({ whole: { rule, expected } }: { whole: Schemas['AdmissionRuleWhole'] }) {
  const list = useList('machine', lists.letIn(rule.no), { key: ['admission rule', rule.no, 'machines'], prefix: 'machines.' });
  return (
    <>
      <ListView
        label="Let in"
        nouns={['machine', 'machines']}
        list={list}
        columns={MACHINE_COLUMNS}
        keyOf={({ fingerprint }) => fingerprint}
        example='machine.name.startsWith("kiosk-")'
        empty={<Typography>Nobody yet.</Typography>}
      />
      {expected.length > 0 && (
        <Typography sx={{ color: 'text.secondary', mt: 1 }}>
          {count(expected.length, 'machine')} of its table did not ask yet: {expected.slice(0, 20).join(', ')}
          {expected.length > 20 && ' …'}
        </Typography>
      )}
    </>
  );
}

const MACHINE_COLUMNS: Column<Schemas['LetIn']>[] = [
  {
    field: 'name',
    head: 'Machine',
    text: ({ name }) => name,
    cell: ({ name, node }) => (node ? <NodeLink name={name} node={node} /> : `${name}, retired since`),
  },
  { field: 'at', head: 'When', text: ({ at }) => at, cell: ({ at }) => <Moment at={at} /> },
  { field: 'address', head: 'From', text: ({ address }) => address },
  {
    field: 'fingerprint',
    head: 'Fingerprint',
    text: ({ fingerprint }) => fingerprint,
    cell: ({ fingerprint }) => <Box sx={{ fontFamily: 'monospace', fontSize: 13, overflowWrap: 'anywhere' }}>{fingerprint}</Box>,
  },
];

/** The node that a machine is now, with the name by which it asked if that is another one. */
function NodeLink({ name, node }: { name: string; node: string }) {
  return (
    <>
      <Link component={RouterLink} to={`/nodes/${encodeURIComponent(node)}`}>
        {node}
      </Link>
      {node !== name && ` (asked as ${name})`}
    </>
  );
}
