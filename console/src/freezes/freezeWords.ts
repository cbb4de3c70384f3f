import type { Schemas } from '../api/client';
import { someNames } from '../groups/groupWords';
import { exact } from '../words/time';

type Freeze = Schemas['FreezeShown'];

/** Which nodes a freeze is for. */
export function frozenNodes({ is_for_all, nodes, of }: Freeze): string {
  return is_for_all ? 'all nodes' : someNames(nodes, of);
}

/** Which clauses it is for. */
export function frozenClauses({ clauses }: Freeze): string {
  return clauses.length > 0 ? clauses.join(', ') : 'all clauses';
}

/** How far it has come: which of its nodes hold it. */
export function heldWords({ of, held_by, last_by }: Freeze): string {
  if (held_by >= of) return of === 0 ? 'no node yet' : `held by all ${of.toLocaleString('en')}`;
  const last = last_by ? `, the last by ${exact(last_by)}` : ', and one is not expected';
  return `held by ${held_by.toLocaleString('en')} of ${of.toLocaleString('en')}${last}`;
}

/** What was done with it. */
export function freezeStatus({ until, ended, ended_by }: Freeze, now: number): string {
  if (ended) return `ended ${exact(ended)} by ${ended_by ?? '–'}`;
  return Date.parse(until) > now ? `in force until ${exact(until)}` : `over since ${exact(until)}`;
}

/** A freeze in one sentence. */
export function freezeSentence(freeze: Freeze): string {
  return `F${freeze.no}, ${freeze.who}: nothing is corrected of ${frozenClauses(freeze)} on ${frozenNodes(freeze)} until ${exact(freeze.until)}: “${freeze.because}”`;
}
