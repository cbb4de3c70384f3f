import { closestCenter, DndContext, type DragEndEvent, KeyboardSensor, PointerSensor, useSensor, useSensors } from '@dnd-kit/core';
import { SortableContext, sortableKeyboardCoordinates, useSortable, verticalListSortingStrategy } from '@dnd-kit/sortable';
import { CSS } from '@dnd-kit/utilities';
import Autocomplete from '@mui/material/Autocomplete';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import Table from '@mui/material/Table';
import TableBody from '@mui/material/TableBody';
import TableCell from '@mui/material/TableCell';
import TableHead from '@mui/material/TableHead';
import TableRow from '@mui/material/TableRow';
import TextField from '@mui/material/TextField';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, type Schemas } from '../api/client';
import { Address } from '../looks/Address';
import { Card } from '../looks/Card';
import { Unseen } from '../looks/Unseen';
import { count } from '../words/words';
import { baselineName } from './draft';
import type { Part } from './GroupPage';
import { HoursDialog } from './HoursDialog';
import { hoursWords } from './hours';

type Assignment = Schemas['Assignment'];

/** The baselines that the group assigns, in their order: it is that in which clauses that do not need each other are handled. */
export function AssignmentsCard({ draft, view, mayEdit }: Part & { view: Schemas['GroupView'] }) {
  const assignments = draft.draft.assignments ?? [];
  const sensors = useSensors(
    useSensor(PointerSensor, { activationConstraint: { distance: 4 } }),
    useSensor(KeyboardSensor, { coordinateGetter: sortableKeyboardCoordinates }),
  );
  const names = assignments.map(baselineName);
  const set = (assignments: Assignment[]) => draft.set({ assignments });
  const onDragEnd = ({ active, over }: DragEndEvent) => {
    const [from, to] = [names.indexOf(String(active.id)), names.indexOf(String(over?.id ?? ''))];
    if (from >= 0 && to >= 0) set(moved(assignments, from, to));
  };
  return (
    <Card title="Assignments, in this order">
      {assignments.length === 0 && <Typography>Nothing is assigned by this group.</Typography>}
      {assignments.length > 0 && (
        <DndContext sensors={sensors} collisionDetection={closestCenter} onDragEnd={onDragEnd}>
          <SortableContext items={names} strategy={verticalListSortingStrategy} disabled={!mayEdit}>
            <Table size="small" aria-label="Assignments" sx={{ tableLayout: 'fixed', '& td, & th': { px: 1 } }}>
              <TableHead>
                <TableRow>
                  <TableCell sx={{ width: 56 }}>
                    <Unseen>Order</Unseen>
                  </TableCell>
                  <TableCell>Baseline</TableCell>
                  <TableCell sx={{ width: '15%' }}>Drift</TableCell>
                  <TableCell sx={{ width: '13%' }}>Rollout</TableCell>
                  <TableCell sx={{ width: '15%' }}>Severity</TableCell>
                  <TableCell sx={{ width: '12%' }}>Controls too</TableCell>
                  <TableCell sx={{ width: 84 }}>
                    <Unseen>Actions</Unseen>
                  </TableCell>
                </TableRow>
              </TableHead>
              <TableBody>
                {assignments.map((assignment, at) => (
                  <AssignmentRow
                    key={baselineName(assignment)}
                    assignment={assignment}
                    view={view.assignments.find((known) => baselineName(known) === baselineName(assignment))}
                    mayEdit={mayEdit}
                    place={at + 1}
                    onPlace={(place) => set(moved(assignments, at, place - 1))}
                    onTerms={(terms) => set(assignments.map((other, index) => (index === at ? { ...other, ...terms } : other)))}
                    onUnassign={() => set(assignments.filter((_, index) => index !== at))}
                  />
                ))}
              </TableBody>
            </Table>
          </SortableContext>
        </DndContext>
      )}
      {mayEdit && <AssignField assigned={names} onAssign={(kit, baseline) => set([...assignments, { kit, baseline }])} />}
    </Card>
  );
}

/** A list with one entry moved to another place. */
export function moved<T>(list: T[], from: number, to: number): T[] {
  const others = list.filter((_, at) => at !== from);
  const entry = list[from];
  const place = Math.max(0, Math.min(to, others.length));
  return entry === undefined ? list : [...others.slice(0, place), entry, ...others.slice(place)];
}

interface Row {
  assignment: Assignment;
  view?: Schemas['AssignmentView'];
  mayEdit: boolean;
  place: number;
  onPlace: (place: number) => void;
  onTerms: (terms: Partial<Assignment>) => void;
  onUnassign: () => void;
}

function AssignmentRow({ assignment, view, mayEdit, place, onPlace, onTerms, onUnassign }: Row) {
  const name = baselineName(assignment);
  const { attributes, listeners, setNodeRef, transform, transition } = useSortable({ id: name });
  return (
    <TableRow ref={setNodeRef} style={{ transform: CSS.Transform.toString(transform), transition }} sx={{ verticalAlign: 'top' }}>
      <TableCell sx={{ whiteSpace: 'nowrap' }}>
        {mayEdit && (
          <Box component="span" {...attributes} {...listeners} aria-label={`move ${name}`} sx={{ cursor: 'grab', px: 0.5, color: 'text.secondary' }}>
            ⠿
          </Box>
        )}
        <TextField
          key={place}
          size="small"
          variant="standard"
          defaultValue={place}
          disabled={!mayEdit}
          onBlur={(event) => onPlace(Number.parseInt(event.target.value, 10) || place)}
          onKeyDown={(event) => {
            if (event.key === 'Enter') (event.target as HTMLInputElement).blur();
          }}
          slotProps={{ htmlInput: { 'aria-label': `place of ${name}`, style: { width: 20, textAlign: 'right' } } }}
        />
      </TableCell>
      <TableCell>
        <Address>{name}</Address>
        <Released view={view} />
        <Schedule name={name} assignment={assignment} mayEdit={mayEdit} onTerms={onTerms} />
      </TableCell>
      <TableCell>
        <Term
          label={`drift of ${name}`}
          value={assignment.on_drift}
          words={{ correct: 'correct', report: 'report only' }}
          disabled={!mayEdit}
          onValue={(on_drift) => onTerms({ on_drift })}
        />
      </TableCell>
      <TableCell>
        <Term
          label={`rollout of ${name}`}
          value={assignment.on_rollout}
          words={{ apply: 'apply', wait: 'wait' }}
          disabled={!mayEdit}
          onValue={(on_rollout) => onTerms({ on_rollout })}
        />
      </TableCell>
      <TableCell>
        <Term
          label={`severity of ${name}`}
          value={assignment.severity}
          words={{ low: 'low', medium: 'medium', high: 'high', critical: 'critical' }}
          disabled={!mayEdit}
          onValue={(severity) => onTerms({ severity })}
          usual={view?.severity ? `${view.severity}, as in kit` : undefined}
        />
      </TableCell>
      <TableCell>
        <TextField
          key={(assignment.satisfies ?? []).join()}
          size="small"
          variant="standard"
          defaultValue={(assignment.satisfies ?? []).join(', ')}
          disabled={!mayEdit}
          placeholder="none"
          onBlur={(event) => {
            const controls = event.target.value
              .split(/[\s,]+/)
              .filter(Boolean)
              .sort();
            if (controls.join() !== (assignment.satisfies ?? []).join()) onTerms({ satisfies: controls.length > 0 ? controls : undefined });
          }}
          slotProps={{ htmlInput: { 'aria-label': `controls that ${name} satisfies too`, style: { width: '100%' } } }}
        />
      </TableCell>
      <TableCell>
        {mayEdit && (
          <Button variant="text" size="small" onClick={onUnassign} aria-label={`Unassign ${name}`}>
            Unassign
          </Button>
        )}
      </TableCell>
    </TableRow>
  );
}

/** The hours in which the clauses of an assignment may be corrected. */
function Schedule({ name, assignment, mayEdit, onTerms }: { name: string } & Pick<Row, 'assignment' | 'mayEdit' | 'onTerms'>) {
  const [isEdited, setEdited] = useState(false);
  const hours = assignment.change_window ?? [];
  const words = hours.length > 0 ? `corrected only ${hoursWords(hours)}` : 'corrected at any time';
  return (
    <Typography component="div" sx={{ fontSize: 14, color: 'text.secondary' }}>
      {words}{' '}
      {mayEdit && (
        <Button
          variant="text"
          size="small"
          sx={{ minWidth: 0, p: 0, verticalAlign: 'baseline' }}
          onClick={() => setEdited(true)}
          aria-label={`Hours… of ${name}`}
        >
          Hours…
        </Button>
      )}
      {isEdited && (
        <HoursDialog
          title={`When ${name} is corrected`}
          hours={hours}
          onHours={(hours) => onTerms({ change_window: hours.length > 0 ? hours : undefined })}
          onClose={() => setEdited(false)}
        />
      )}
    </Typography>
  );
}

function Released({ view }: { view?: Schemas['AssignmentView'] }) {
  if (!view) return <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>not saved yet</Typography>;
  const served = view.served.map(({ stage, version, nodes }) => `${version ?? 'nothing'} in ${stage} for ${count(nodes, 'node')}`);
  const isServed = view.served.some(({ version }) => version === view.newest);
  return (
    <>
      <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
        {count(view.clauses, 'clause')} · {served.join(', ') || 'no nodes'}
        {view.newest && !isServed && ` · newest ${view.newest}`}
      </Typography>
      {view.also_by.map((also) => (
        <Typography key={also.group} sx={{ fontSize: 14, color: 'text.secondary' }}>
          assigned by {also.group} too, to {count(also.nodes, 'node')} of these
        </Typography>
      ))}
    </>
  );
}

interface TermField<T extends string> {
  label: string;
  value: T | null | undefined;
  words: Record<T, string>;
  usual?: string;
  disabled: boolean;
  onValue: (value: T | undefined) => void;
}

function Term<T extends string>({ label, value, words, usual = 'as in kit', disabled, onValue }: TermField<T>) {
  return (
    <TextField
      select
      size="small"
      variant="standard"
      value={value ?? ''}
      disabled={disabled}
      onChange={(event) => onValue((event.target.value || undefined) as T | undefined)}
      slotProps={{ select: { displayEmpty: true }, htmlInput: { 'aria-label': label } }}
      sx={{ '& .MuiSelect-select': { fontWeight: value ? 600 : 400, color: value ? 'text.primary' : 'text.secondary' } }}
    >
      <MenuItem value="">{usual}</MenuItem>
      {(Object.keys(words) as T[]).map((word) => (
        <MenuItem key={word} value={word}>
          {words[word]}
        </MenuItem>
      ))}
    </TextField>
  );
}

/** Searches the baselines of the newest releases. */
function AssignField({ assigned, onAssign }: { assigned: string[]; onAssign: (kit: string, baseline: string) => void }) {
  const baselines = useQuery({ queryKey: ['baselines'], queryFn: ({ signal }) => api.baselines(signal) });
  const options = (baselines.data ?? []).filter((known) => !assigned.includes(baselineName(known)));
  return (
    <Autocomplete
      key={assigned.join()}
      size="small"
      sx={{ mt: 1.5, maxWidth: 520 }}
      options={options}
      getOptionLabel={baselineName}
      getOptionKey={baselineName}
      filterOptions={(options, { inputValue }) =>
        options.filter((option) => `${baselineName(option)} ${option.summary}`.toLowerCase().includes(inputValue.trim().toLowerCase()))
      }
      onChange={(_, chosen) => chosen && onAssign(chosen.kit, chosen.baseline)}
      renderOption={({ key, ...props }, option) => (
        <Box component="li" key={key} {...props} sx={{ display: 'block !important' }}>
          <Address>{baselineName(option)}</Address>
          <Typography sx={{ fontSize: 14, color: 'text.secondary' }}>
            {option.summary} · {count(option.clauses, 'clause')} · {option.kit}@{option.version}
          </Typography>
        </Box>
      )}
      renderInput={(input) => <TextField {...input} label={`Assign a baseline: search ${options.length} published`} />}
    />
  );
}
