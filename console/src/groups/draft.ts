import { useEffect, useState } from 'react';
import type { Schemas } from '../api/client';
import { exact } from '../words/time';
import { hoursWords } from './hours';
import { describedValue } from './values';

type Group = Schemas['Group'];
type Assignment = Schemas['Assignment'];

/** One edit of a group: as it is sent, and as a person reads it. */
export interface Edit {
  edit: Schemas['GroupEdit'];
  what: string;
  before: string;
  after: string;
}

interface Stored {
  /** The group as it was when the first thing was edited. */
  base: Group;
  draft: Group;
}

/** The name of a baseline with its kit. */
export function baselineName({ kit, baseline }: { kit: string; baseline: string }): string {
  return `${kit}/${baseline}`;
}

/** What was edited of a group and is not saved yet. It survives a reload of the page, in this window. */
export function useDraft(group: Group) {
  const key = `draft of the group ${group.name}`;
  const [stored, setStored] = useState<Stored | undefined>(() => readStored(key));
  useEffect(() => {
    if (stored) sessionStorage.setItem(key, JSON.stringify(stored));
    else sessionStorage.removeItem(key);
  }, [key, stored]);
  const base = stored?.base ?? group;
  const draft = stored?.draft ?? group;
  return {
    draft,
    edits: stored ? editsBetween(base, draft) : [],
    /** Whether somebody else changed the group since: the edits are made on top of that. */
    isChangedSince: stored !== undefined && JSON.stringify(base) !== JSON.stringify(group),
    set: (altered: Partial<Group>) => {
      const next = { ...draft, ...altered };
      setStored(editsBetween(base, next).length > 0 ? { base, draft: next } : undefined);
    },
    discard: () => setStored(undefined),
  };
}

export type Draft = ReturnType<typeof useDraft>;

function readStored(key: string): Stored | undefined {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? 'null') ?? undefined;
  } catch {
    return undefined;
  }
}

/** The edits that make one group of another, in the order in which they are made. */
export function editsBetween(before: Group, after: Group): Edit[] {
  const edits: Edit[] = [];
  const single = (edit: Schemas['GroupEdit'], what: string, from: unknown, to: unknown) => {
    if (JSON.stringify(from ?? null) !== JSON.stringify(to ?? null)) {
      edits.push({ edit, what, before: describedValue(from), after: describedValue(to) });
    }
  };
  single({ edit: 'priority', priority: after.priority ?? 0 }, 'priority', before.priority ?? 0, after.priority ?? 0);
  single({ edit: 'stage', stage: after.stage ?? null }, 'stage', before.stage, after.stage);
  single({ edit: 'filter', filter: after.filter ?? null }, 'filter', before.filter, after.filter);
  single({ edit: 'second_person', required: after.second_person ?? false }, 'second person', before.second_person ?? false, after.second_person ?? false);
  const [had, has] = [new Set(before.nodes ?? []), new Set(after.nodes ?? [])];
  const add = [...has].filter((node) => !had.has(node));
  const remove = [...had].filter((node) => !has.has(node));
  if (add.length > 0 || remove.length > 0) {
    edits.push({ edit: { edit: 'members', add, remove }, what: 'named members', before: remove.join(', ') || '–', after: add.join(', ') || '–' });
  }
  edits.push(...assignmentEdits(before.assignments ?? [], after.assignments ?? []));
  const parameters = new Set([...Object.keys(before.parameters ?? {}), ...Object.keys(after.parameters ?? {})]);
  for (const name of [...parameters].sort()) {
    const value = after.parameters?.[name];
    single({ edit: 'parameter', name, value: value ?? null }, name, before.parameters?.[name], value);
  }
  const [was, is] = [before.settings as Record<string, unknown>, after.settings as Record<string, unknown>];
  for (const word of [...new Set([...Object.keys(was ?? {}), ...Object.keys(is ?? {})])].sort()) {
    const [until, now] = [before.settings_until?.[word]?.until, is?.[word] === undefined ? undefined : after.settings_until?.[word]?.until];
    const edit: Schemas['GroupEdit'] = { edit: 'setting', word, value: is?.[word] ?? null, ...(now && { until: now }) };
    if (JSON.stringify([was?.[word], until]) !== JSON.stringify([is?.[word], now])) {
      edits.push({ edit, what: word, before: timed(was?.[word], until), after: timed(is?.[word], now) });
    }
  }
  return edits;
}

function timed(value: unknown, until?: string): string {
  return until ? `${describedValue(value)} until ${exact(until)}` : describedValue(value);
}

function assignmentEdits(before: Assignment[], after: Assignment[]): Edit[] {
  const placeOf = (list: Assignment[], one: Assignment) => list.findIndex((other) => baselineName(other) === baselineName(one));
  const gone = before.filter((one) => placeOf(after, one) < 0);
  const edits: Edit[] = gone.map((one) => ({
    edit: { edit: 'unassign', kit: one.kit, baseline: one.baseline },
    what: baselineName(one),
    before: 'assigned',
    after: 'no longer assigned',
  }));
  // Where each would stand if nothing but this was edited.
  const kept = before.filter((one) => placeOf(after, one) >= 0);
  const isMoved = kept.some(
    (one, at) =>
      placeOf(
        after.filter((other) => placeOf(before, other) >= 0),
        one,
      ) !== at,
  );
  after.forEach((one, place) => {
    const old = before[placeOf(before, one)];
    const terms = termsBetween(old, one);
    if (!old) {
      const said = termWords(one);
      edits.push({
        edit: { edit: 'assign', kit: one.kit, baseline: one.baseline, terms, place },
        what: baselineName(one),
        before: 'not assigned',
        after: said ? `assigned, ${said}` : 'assigned',
      });
    } else if (Object.keys(terms).length > 0) {
      edits.push({
        edit: { edit: 'assign', kit: one.kit, baseline: one.baseline, terms, place: isMoved ? place : undefined },
        what: baselineName(one),
        before: termWords(old) || 'as in the kit',
        after: termWords(one) || 'as in the kit',
      });
    } else if (isMoved) {
      edits.push({
        edit: { edit: 'assign', kit: one.kit, baseline: one.baseline, place },
        what: baselineName(one),
        before: `place ${placeOf(before, one) + 1}`,
        after: `place ${place + 1}`,
      });
    }
  });
  return edits;
}

const TERMS = ['on_drift', 'on_rollout', 'severity'] as const;

/** What is altered of the terms of an assignment; null takes away what it set. */
function termsBetween(before: Assignment | undefined, after: Assignment): Schemas['TermsEdit'] {
  const terms: Schemas['TermsEdit'] = {};
  for (const term of TERMS) {
    if ((before?.[term] ?? null) !== (after[term] ?? null)) Object.assign(terms, { [term]: after[term] ?? null });
  }
  if (JSON.stringify(before?.satisfies ?? []) !== JSON.stringify(after.satisfies ?? [])) terms.satisfies = after.satisfies ?? [];
  if (JSON.stringify(before?.change_window ?? []) !== JSON.stringify(after.change_window ?? [])) terms.change_window = after.change_window ?? [];
  return terms;
}

/** The terms of an assignment in words; empty if the kit decides. */
export function termWords(assignment: Assignment): string {
  const drift = assignment.on_drift && { correct: 'drift corrected', report: 'drift reported only' }[assignment.on_drift];
  const rollout = assignment.on_rollout && { apply: 'rollout applied', wait: 'rollout waits' }[assignment.on_rollout];
  const severity = assignment.severity && `severity ${assignment.severity}`;
  const controls = assignment.satisfies?.length && `satisfies ${assignment.satisfies.join(', ')}`;
  const hours = assignment.change_window?.length && `corrected only ${hoursWords(assignment.change_window)}`;
  return [drift, rollout, severity, controls, hours].filter(Boolean).join(', ');
}
