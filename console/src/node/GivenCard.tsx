import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { api, type Schemas } from '../api/client';
import { ChangeDialog } from '../changes/ChangeDialog';
import { baselineName } from '../groups/draft';
import { describedValue, typedValue } from '../groups/values';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { EndField, momentOf } from '../looks/EndField';
import { QueryView } from '../shell/QueryView';
import { exact } from '../words/time';
import { asked } from './NodeDialogs';
import { useMayOnNode } from './useMayOnNode';

type Edit = Schemas['GroupEdit'];
type Own = Schemas['NodeOwn'];

interface GivableClause {
  address: string;
  wanted: Record<string, unknown>;
}

interface Asked {
  name: string;
  mayHandOut: boolean;
  onClose: () => void;
}

/** What one node is given by itself, over what its groups give it; more is given, and taken away, from here. */
export function GivenCard({ name, parameters, clauses }: { name: string; parameters: string[]; clauses: GivableClause[] }) {
  const own = useQuery({ queryKey: ['node', name, 'own'], queryFn: ({ signal }) => api.ownOfNode(name, signal) });
  const [asks, setAsks] = useState<{ edit?: { edit: Edit; what: string } }>();
  const may = useMayOnNode(name);
  const mayHandOut = may.includes('group.edit');
  const isOffered = mayHandOut || may.includes('change.request');
  const dialog = { name, mayHandOut, onClose: () => setAsks(undefined) };
  return (
    <Card
      title="Given to it alone"
      aside={
        <Button variant="text" size="small" disabled={!isOffered} onClick={() => setAsks({})}>
          Give…
        </Button>
      }
    >
      <QueryView query={own}>{(own) => <GivenList own={own} isOffered={isOffered} onTake={(edit) => setAsks({ edit })} />}</QueryView>
      {!isOffered && (
        <Typography sx={{ color: 'text.secondary', fontSize: 14 }}>Operators and publishers request this; approvers and administrators do it.</Typography>
      )}
      {asks && !asks.edit && <GiveDialog {...dialog} parameters={parameters} clauses={clauses} />}
      {asks?.edit && <TakeDialog {...dialog} {...asks.edit} />}
    </Card>
  );
}

interface Given {
  what: string;
  value: string;
  take: Edit;
}

function givenOf(own: Own): Given[] {
  return [
    ...(own.assignments ?? []).map((assignment) => ({
      what: baselineName(assignment),
      value: [assignment.on_drift && `drift: ${assignment.on_drift}`, assignment.severity].filter(Boolean).join(', '),
      take: { edit: 'unassign', kit: assignment.kit, baseline: assignment.baseline } as Edit,
    })),
    ...Object.entries(own.parameters ?? {}).map(([name, value]) => ({
      what: name,
      value: describedValue(value),
      take: { edit: 'parameter', name, value: null } as Edit,
    })),
    ...Object.entries(own.settings ?? {}).map(([word, value]) => ({
      what: word,
      value: `${describedValue(value)}${own.settings_until?.[word] ? `, until ${exact(own.settings_until[word].until)}` : ''}`,
      take: { edit: 'setting', word, value: null } as Edit,
    })),
    ...Object.entries(own.properties ?? {}).flatMap(([clause, values]) =>
      Object.entries(values).map(([property, { value, until }]) => ({
        what: `${clause} ${property}`,
        value: `${describedValue(value)}${until ? `, until ${exact(until)}` : ''}`,
        take: { edit: 'property', clause, property, value: null } as Edit,
      })),
    ),
  ];
}

function GivenList({ own, isOffered, onTake }: { own: Own; isOffered: boolean; onTake: (edit: { edit: Edit; what: string }) => void }) {
  const given = givenOf(own);
  if (given.length === 0) return <Typography sx={{ fontSize: 14 }}>Nothing: it has what its groups give it.</Typography>;
  return given.map(({ what, value, take }) => (
    <Box key={what} sx={{ display: 'flex', gap: 1, alignItems: 'baseline', fontSize: 14 }}>
      <Box sx={{ flex: 1, minWidth: 0, overflowWrap: 'anywhere' }}>
        <Address>{what}</Address> {value}
      </Box>
      <Button variant="text" size="small" disabled={!isOffered} onClick={() => onTake({ edit: take, what })} aria-label={`take away ${what}`}>
        Take away…
      </Button>
    </Box>
  ));
}

function TakeDialog({ edit, what, ...dialog }: Asked & { edit: Edit; what: string }) {
  return (
    <EditDialog
      {...dialog}
      title={`Take ${what} away from ${dialog.name}`}
      next="It has again what its groups give it. What a baseline put on the machine stays there unless another clause removes it."
      edit={edit}
    />
  );
}

/** Gives a node a mode of its own. */
export function ModeDialog(dialog: Asked) {
  const [mode, setMode] = useState('');
  const [end, setEnd] = useState('');
  const next =
    mode === 'enforce'
      ? 'From its next run on it corrects what it finds, within its change window.'
      : 'It is over what its groups say. While it observes, it only reports.';
  const edit: Edit | undefined =
    mode === '' ? undefined : { edit: 'setting', word: 'mode', value: mode === 'groups' ? null : mode, until: mode === 'groups' ? undefined : momentOf(end) };
  return (
    <EditDialog {...dialog} title={`Mode of ${dialog.name}`} next={next} edit={edit}>
      <TextField select label="Mode of its own" value={mode} onChange={(event) => setMode(event.target.value)} margin="dense">
        <MenuItem value="observe">observe</MenuItem>
        <MenuItem value="enforce">enforce</MenuItem>
        <MenuItem value="groups">none: as its groups say</MenuItem>
      </TextField>
      {(mode === 'observe' || mode === 'enforce') && <EndField end={end} onEnd={setEnd} />}
    </EditDialog>
  );
}

const SORTS = { assign: 'a baseline', parameter: 'the value of a parameter', setting: 'a setting of its agent', property: 'a property of one clause' };

function GiveDialog({ parameters, clauses, ...dialog }: Asked & { parameters: string[]; clauses: GivableClause[] }) {
  const baselines = useQuery({ queryKey: ['baselines'], queryFn: ({ signal }) => api.baselines(signal) });
  const [sort, setSort] = useState<keyof typeof SORTS>('assign');
  const [what, setWhat] = useState('');
  const [property, setProperty] = useState('');
  const [value, setValue] = useState('');
  const [end, setEnd] = useState('');
  const options = {
    assign: (baselines.data ?? []).map(baselineName),
    parameter: parameters,
    setting: ['mode', 'interval_secs', 'grace_secs'],
    property: clauses.map(({ address }) => address),
  }[sort];
  const now = clauses.find(({ address }) => address === what)?.wanted ?? {};
  return (
    <EditDialog
      {...dialog}
      title={`Give ${dialog.name} alone`}
      next="It is over what its groups give: a baseline comes after theirs, a value or a setting is put over theirs."
      edit={editOf({ sort, what: what.trim(), value, property: property.trim(), end, isText: typeof now[property] === 'string' })}
    >
      <TextField
        select
        label="What"
        value={sort}
        onChange={(event) => {
          setSort(event.target.value as keyof typeof SORTS);
          setWhat('');
        }}
        margin="dense"
      >
        {Object.entries(SORTS).map(([sort, words]) => (
          <MenuItem key={sort} value={sort}>
            {words}
          </MenuItem>
        ))}
      </TextField>
      <Autocomplete
        key={sort}
        freeSolo
        options={options}
        inputValue={what}
        onInputChange={(_, what) => setWhat(what)}
        renderInput={(input) => <TextField {...input} label={LABELS[sort]} margin="dense" />}
      />
      {sort === 'property' && (
        <Autocomplete
          freeSolo
          options={Object.keys(now).map((property) => (property === 'content' ? 'text' : property))}
          inputValue={property}
          onInputChange={(_, property) => setProperty(property)}
          renderInput={(input) => (
            <TextField {...input} label="Property" margin="dense" helperText={property in now ? `now ${describedValue(now[property])}` : undefined} />
          )}
        />
      )}
      {sort !== 'assign' && <TextField label="Value, as in a document" value={value} onChange={(event) => setValue(event.target.value)} margin="dense" />}
      {(sort === 'property' || sort === 'setting') && <EndField end={end} onEnd={setEnd} />}
    </EditDialog>
  );
}

interface Typed {
  sort: keyof typeof SORTS;
  what: string;
  value: string;
  property: string;
  end: string;
  /** Whether the property is a text now. */
  isText: boolean;
}

const LABELS = { assign: 'Baseline', parameter: 'Parameter', setting: 'Setting', property: 'Clause' };

function editOf({ sort, what, value, property, end, isText }: Typed): Edit | undefined {
  if (what === '' || (sort !== 'assign' && value.trim() === '')) return undefined;
  if (sort === 'parameter') return { edit: 'parameter', name: what, value: typedValue(value.trim(), false) };
  if (sort === 'setting') return { edit: 'setting', word: what, value: typedValue(value.trim(), false), until: momentOf(end) };
  if (sort === 'property') {
    if (property === '') return undefined;
    return { edit: 'property', clause: what, property, value: typedValue(value.trim(), isText), until: momentOf(end) };
  }
  const [kit = '', baseline = ''] = what.split('/');
  return { edit: 'assign', kit, baseline, terms: {} };
}

function EditDialog({ name, edit, children, ...dialog }: Asked & { title: string; next: string; edit?: Edit; children?: ReactNode }) {
  return (
    <ChangeDialog
      {...dialog}
      isWhole={edit !== undefined}
      filledIn={JSON.stringify(edit) ?? ''}
      ask={(how) => api.editNode(name, { edits: edit ? [edit] : [], ...asked(how) })}
    >
      {children}
    </ChangeDialog>
  );
}
