import { api, type Schemas } from '../api/client';
import type { Choosable } from '../lists/ListTools';
import { write } from '../words/sentence';
import { problemWords, statusWords } from '../words/words';

type Node = Schemas['NodeSummary'];

/** The columns of the list of nodes. */
export const COLUMNS: Choosable<Node>[] = [
  { field: 'name', head: 'Node', text: ({ name }) => name },
  { field: 'status', head: 'Status', text: ({ status, last_contact }) => statusWords(status) + (last_contact === 'late' ? ', late' : '') },
  { field: 'last_run', head: 'Last full run', text: ({ run_began }) => run_began ?? '' },
  { field: 'has', head: 'Releases', text: (node) => (node.has_releases ?? []).join(' ') },
  { field: 'last_contact', head: 'Last contact', text: ({ last_heard }) => last_heard ?? '' },
  { field: 'mode', head: 'Mode', text: ({ mode }) => mode ?? '' },
  { field: 'stage', head: 'Stage', text: ({ stage }) => stage ?? '' },
  { field: 'groups', head: 'Groups', text: ({ groups }) => (groups ?? []).join(' ') },
  { field: 'os', head: 'System', text: system },
  { field: 'problems', head: 'Problems', text: ({ problems }) => (problems ?? []).map(problemWords).join(', ') },
  { field: 'labels', head: 'Labels', text: labelsOf },
];

/** Those that are not shown before somebody asks for them. */
export const HIDDEN_FIRST = ['groups', 'os'];

/** What a node says of its system. */
export function system({ about }: Node): string {
  return [about['os.name'], about['os.version']].filter(Boolean).join(' ');
}

/** A node's labels in one line. */
export function labelsOf({ labels }: Node): string {
  return Object.entries(labels)
    .map(([label, value]) => `${label}=${value}`)
    .join(' ');
}

/** The releases of the last full run, or why there are none; the status has a column of its own. */
export function releasesOf({ words }: Node, now: number): string {
  return words.releases.length > 0 ? write(words.releases, now).replace(/^has /, '') : write(words.status, now);
}

/** How many nodes are fetched at once. */
const AT_ONCE = 1000;

/** All nodes of a list, page by page. */
export async function allNodes(filter: string, sort: string): Promise<Node[]> {
  const nodes: Node[] = [];
  let after: string | null | undefined;
  do {
    const page = await api.nodes({ size: AT_ONCE, ...(filter && { filter }), ...(sort && { sort }), ...(after && { after }) });
    nodes.push(...page.nodes);
    after = page.next;
  } while (after);
  return nodes;
}
