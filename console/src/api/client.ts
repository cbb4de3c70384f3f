import createClient from 'openapi-fetch';
import type { components, paths } from './schema';

/** The types of the interface, as the server describes them. */
export type Schemas = components['schemas'];

/** An error answer, or no answer. */
export class Refused extends Error {
  constructor(readonly problem: Schemas['Problem']) {
    super(problem.title);
  }

  /** Whether the session ended. */
  get isSignedOut() {
    return this.problem.type === 'not_signed_in';
  }
}

let token: string | undefined;

/** Keeps the token of the session, which is sent with each changing request. */
export function keepToken(given: string | null | undefined) {
  token = given ?? undefined;
}

const client = createClient<paths>({ baseUrl: location.origin, fetch: (request) => fetch(request) });
client.use({
  onRequest({ request }) {
    if (token && request.method !== 'GET') request.headers.set('Constans-Token', token);
    return request;
  },
});

interface Answered<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

async function answer<T>(request: Promise<Answered<T>>): Promise<T> {
  let answered: Answered<T>;
  try {
    answered = await request;
  } catch (cause) {
    if (cause instanceof DOMException && cause.name === 'AbortError') throw cause;
    const hint = 'the data shown is the last received; the console retries';
    throw new Refused({ type: 'not_reached', title: 'the server does not answer', status: 0, hint });
  }
  if (answered.response.ok) return answered.data as T;
  const problem = answered.error as Schemas['Problem'] | undefined;
  throw new Refused(
    problem?.title ? problem : { type: 'unexpected_answer', title: `the server answers ${answered.response.status}`, status: answered.response.status },
  );
}

/** A page of a list, and where the next one begins. */
export interface ListPage<T> {
  entries: T[];
  next?: string;
}

/** Which entries of a list, in which order, after which place. */
export type ListQuery = { filter?: string; sort?: string; after?: string; size?: number };

/** Reads a page: the header `Link` says after which entry the next one begins. */
async function pageOf<T>(request: Promise<Answered<T[]>>): Promise<ListPage<T>> {
  const entries = await answer(request);
  const next = /^<([^>]+)>; rel="next"$/.exec((await request).response.headers.get('Link') ?? '')?.[1];
  return { entries, next: next && (new URL(next, location.origin).searchParams.get('after') ?? undefined) };
}

/** Reads all pages of a list. */
export async function allEntries<T>(read: (after?: string) => Promise<ListPage<T>>): Promise<T[]> {
  const all: T[] = [];
  let after: string | undefined;
  do {
    const { entries, next } = await read(after);
    all.push(...entries);
    after = next;
  } while (after);
  return all;
}

function allPages<T>(page: (after?: string) => Promise<Answered<T[]>>): Promise<T[]> {
  return allEntries((after) => pageOf(page(after)));
}

const of = (name: string) => ({ path: { name } });

/** Which nodes, in which order, after which one. */
export type NodesQuery = { filter?: string; sort?: string; after?: string; size?: number };

/** Pages of lists. */
export const lists = {
  changes: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/changes', { params: { query }, signal })),
  changedNodes: (no: number) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/changes/{no}/nodes', { params: { path: { no }, query }, signal })),
  runs: (name: string) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/nodes/{name}/runs', { params: { path: { name }, query }, signal })),
  sweeps: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/sweeps', { params: { query }, signal })),
  sweptNodes: (no: number) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/sweeps/{no}/nodes', { params: { path: { no }, query }, signal })),
  rollouts: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/rollouts', { params: { query }, signal })),
  rolloutNodes: (no: number) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/rollouts/{no}/nodes', { params: { path: { no }, query }, signal })),
  letIn: (no: number) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/admission-rules/{no}/machines', { params: { path: { no }, query }, signal })),
  groups: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/groups', { params: { query }, signal })),
  releases: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/releases', { params: { query }, signal })),
  joiningRequests: (only: 'waiting' | 'approved' | 'denied') => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/joining-requests', { params: { query: { only, ...query } }, signal })),
  invitations: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/invitations', { params: { query }, signal })),
  admissionRules: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/admission-rules', { params: { query }, signal })),
  retiredNodes: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/retired-nodes', { params: { query }, signal })),
  freezes: (alsoOver: boolean) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/freezes', { params: { query: { also_over: alsoOver, ...query } }, signal })),
  concessions: (alsoOver: boolean) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/concessions', { params: { query: { also_over: alsoOver, ...query } }, signal })),
  evidence: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/evidence', { params: { query }, signal })),
  /** Episodes of a period: open ones, then the newest. */
  driftEpisodes: (of: { filter?: string; since?: string; clause?: string; open?: boolean }) => (query: ListQuery, signal?: AbortSignal) =>
    pageOf(client.GET('/api/drift/episodes', { params: { query: { after: query.after, size: query.size, ...of } }, signal })),
  people: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/people', { params: { query }, signal })),
  tokens: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/tokens', { params: { query }, signal })),
  audit: (query: ListQuery, signal?: AbortSignal) => pageOf(client.GET('/api/audit', { params: { query }, signal })),
};

/** Every request that the console makes. */
export const api = {
  session: (signal?: AbortSignal) => answer(client.GET('/api/session', { signal })),
  signIn: (body: Schemas['SignIn']) => answer(client.POST('/api/sign-in', { body })),
  signOut: () => answer(client.POST('/api/sign-out')),
  welcomeFor: (secret: string) => answer(client.POST('/api/welcome/for', { body: secret })),
  welcome: (body: Schemas['Welcome']) => answer(client.POST('/api/welcome', { body })),
  overview: (filter: string, signal?: AbortSignal) => answer(client.GET('/api/overview', { params: { query: filter ? { filter } : {} }, signal })),
  serverStatus: (signal?: AbortSignal) => answer(client.GET('/api/server-status', { signal })),
  verifyAudit: () => answer(client.GET('/api/audit/verify')),
  /** The labels that nodes have, each with its values. */
  labels: (signal?: AbortSignal) => answer(client.GET('/api/labels', { signal })),
  complianceDays: (query: { days?: number; filter?: string; only?: string }, signal?: AbortSignal) =>
    answer(client.GET('/api/compliance/days', { params: { query }, signal })),
  complianceMoves: (query: { since: string; filter?: string; only?: string; as_of?: string }, signal?: AbortSignal) =>
    answer(client.GET('/api/compliance/moves', { params: { query }, signal })),
  compliance: (query: { by: string; filter?: string; only?: string; as_of?: string }, signal?: AbortSignal) =>
    answer(client.GET('/api/compliance', { params: { query }, signal })),
  runHours: (hours: number, signal?: AbortSignal) => answer(client.GET('/api/run-hours', { params: { query: { hours } }, signal })),
  examinations: (query: { filter?: string; as_of?: string }, signal?: AbortSignal) =>
    answer(client.GET('/api/compliance/examinations', { params: { query }, signal })),
  drift: (query: { by: string; filter?: string; since?: string }, signal?: AbortSignal) => answer(client.GET('/api/drift', { params: { query }, signal })),
  driftFound: (query: { clause: string; filter?: string }, signal?: AbortSignal) => answer(client.GET('/api/drift/found', { params: { query }, signal })),
  acceptable: (query: { node: string; clause: string }, signal?: AbortSignal) => answer(client.GET('/api/drift/acceptable', { params: { query }, signal })),
  freezes: (alsoOver: boolean, signal?: AbortSignal) =>
    allPages((after) => client.GET('/api/freezes', { params: { query: { also_over: alsoOver, after } }, signal })),
  sweep: (body: Schemas['NewSweep']) => answer(client.POST('/api/sweeps', { body })),
  sweepShown: (no: number, signal?: AbortSignal) => answer(client.GET('/api/sweeps/{no}', { params: { path: { no } }, signal })),
  sweepFailures: (no: number, signal?: AbortSignal) => answer(client.GET('/api/sweeps/{no}/failures', { params: { path: { no } }, signal })),
  sweepCompared: (no: number, earlier: number, signal?: AbortSignal) =>
    answer(client.GET('/api/sweeps/{no}/comparison', { params: { path: { no }, query: { with: earlier } }, signal })),
  rollout: (body: Schemas['NewRollout']) => answer(client.POST('/api/rollouts', { body })),
  rolloutShown: (no: number, signal?: AbortSignal) => answer(client.GET('/api/rollouts/{no}', { params: { path: { no } }, signal })),
  haltRollout: (no: number, because: string) => answer(client.POST('/api/rollouts/{no}/halt', { params: { path: { no } }, body: { because } })),
  rolloutGoesOn: (no: number, because: string) => answer(client.POST('/api/rollouts/{no}/go-on', { params: { path: { no } }, body: { because } })),
  turnRolloutBack: (no: number, how: Schemas['HowToChange']) => answer(client.POST('/api/rollouts/{no}/turn-back', { params: { path: { no } }, body: how })),
  stopSweep: (no: number) => answer(client.POST('/api/sweeps/{no}/stop', { params: { path: { no } } })),
  wake: (body: Schemas['NewWake']) => answer(client.POST('/api/wakes', { body })),
  wakeShown: (no: number, signal?: AbortSignal) => answer(client.GET('/api/wakes/{no}', { params: { path: { no } }, signal })),
  wokenNodes: (no: number, signal?: AbortSignal) => answer(client.GET('/api/wakes/{no}/nodes', { params: { path: { no } }, signal })),
  inspect: (body: Schemas['NewInspection']) => answer(client.POST('/api/inspections', { body })),
  inspectionShown: (no: number, signal?: AbortSignal) => answer(client.GET('/api/inspections/{no}', { params: { path: { no } }, signal })),
  follow: (name: string, query: { run?: string; after?: number }, signal?: AbortSignal) =>
    answer(client.POST('/api/nodes/{name}/follow', { params: { path: { name }, query }, signal })),
  selfTest: (body: Schemas['NewSelfTest']) => answer(client.POST('/api/self-tests', { body })),
  selfTestShown: (no: number, signal?: AbortSignal) => answer(client.GET('/api/self-tests/{no}', { params: { path: { no } }, signal })),
  setFreeze: (body: Schemas['NewFreeze']) => answer(client.POST('/api/freezes', { body })),
  endFreeze: (no: number, body: Schemas['EndFreeze']) => answer(client.POST('/api/freezes/{no}/end', { params: { path: { no } }, body })),
  layers: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/layers', { params: { path: { name } }, signal })),
  accept: (body: Schemas['Accept'], query: { because?: string; preview: boolean }) => answer(client.POST('/api/drift/accept', { params: { query }, body })),
  controls: (query: { filter?: string; as_of?: string }, signal?: AbortSignal) => answer(client.GET('/api/controls', { params: { query }, signal })),
  controlGaps: (query: { control: string; filter?: string; as_of?: string }, signal?: AbortSignal) =>
    answer(client.GET('/api/control-gaps', { params: { query }, signal })),
  assets: (signal?: AbortSignal) => answer(client.GET('/api/assets', { params: { query: { never_enrolled: true } }, signal })),
  makeEvidence: (body: Schemas['NewEvidence']) => answer(client.POST('/api/evidence', { body })),
  stopEvidence: (no: number) => answer(client.POST('/api/evidence/{no}/stop', { params: { path: { no } } })),
  removeEvidence: (no: number) => answer(client.DELETE('/api/evidence/{no}', { params: { path: { no } } })),
  evidenceChain: (signal?: AbortSignal) => answer(client.GET('/api/evidence-chain', { signal })),
  askForConcession: (body: Schemas['NewConcession']) => answer(client.POST('/api/concessions', { body })),
  approveConcession: (no: number, body: Schemas['ApproveConcession']) =>
    answer(client.POST('/api/concessions/{no}/approve', { params: { path: { no } }, body })),
  refuseConcession: (no: number, body: Schemas['CloseConcession']) => answer(client.POST('/api/concessions/{no}/refuse', { params: { path: { no } }, body })),
  endConcession: (no: number, body: Schemas['CloseConcession']) => answer(client.POST('/api/concessions/{no}/end', { params: { path: { no } }, body })),
  nodes: (query: NodesQuery, signal?: AbortSignal) => answer(client.GET('/api/nodes', { params: { query }, signal })),
  node: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}', { params: of(name), signal })),
  clauses: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/clauses', { params: of(name), signal })),
  // The generated type of a pair is a list of any length.
  why: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/why', { params: of(name), signal })) as Promise<Schemas['StateSources']>,
  leftBehind: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/left-behind', { params: of(name), signal })),
  episodes: (name: string, signal?: AbortSignal) =>
    allPages((after) => client.GET('/api/nodes/{name}/episodes', { params: { ...of(name), query: { after } }, signal })),
  run: (name: string, id: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/runs/{id}', { params: { path: { name, id } }, signal })),
  /** What is otherwise in a run than in the one before it. */
  compareRun: (name: string, id: string, signal?: AbortSignal) =>
    answer(client.GET('/api/nodes/{name}/runs/{id}/comparison', { params: { path: { name, id } }, signal })),
  releases: (signal?: AbortSignal) => allPages((after) => client.GET('/api/releases', { params: { query: { after } }, signal })),
  // The generated type of a pair is a list of any length.
  release: (kit: string, version: string, signal?: AbortSignal) =>
    answer(client.GET('/api/releases/{kit}/{version}', { params: { path: { kit, version } }, signal })) as Promise<Schemas['ReleaseShown']>,
  releaseText: (kit: string, version: string, path: string, signal?: AbortSignal) =>
    answer(client.GET('/api/releases/{kit}/{version}/text', { params: { path: { kit, version }, query: { path } }, signal })),
  compareReleases: (from: string, to: string, signal?: AbortSignal) => answer(client.GET('/api/compare/releases', { params: { query: { from, to } }, signal })),
  kitLog: (kit: string, signal?: AbortSignal) =>
    allPages((after) => client.GET('/api/kits/{kit}/log', { params: { path: { kit }, query: { after } }, signal })),
  groups: (signal?: AbortSignal) => allPages((after) => client.GET('/api/groups', { params: { query: { after } }, signal })),
  group: (name: string, signal?: AbortSignal) => answer(client.GET('/api/groups/{name}', { params: { path: { name } }, signal })),
  setGroup: (body: Schemas['Group'], query: { because?: string; preview?: boolean; request?: boolean }) =>
    answer(client.PUT('/api/groups', { params: { query }, body })),
  editGroup: (name: string, body: Schemas['EditGroup']) => answer(client.POST('/api/groups/{name}/edits', { params: { path: { name } }, body })),
  /** What holds for a time: of groups, and of nodes by themselves. */
  temporarySettings: (signal?: AbortSignal) => answer(client.GET('/api/temporary-settings', { signal })),
  tryMembers: (body: Schemas['TryMembers'], signal?: AbortSignal) => answer(client.POST('/api/group-members', { body, signal })),
  joiningRequests: (only: 'waiting' | 'approved' | 'denied', signal?: AbortSignal) =>
    allPages((after) => client.GET('/api/joining-requests', { params: { query: { after, only } }, signal })),
  approveRequests: (body: Schemas['ApproveRequests'], signal?: AbortSignal) => answer(client.POST('/api/joining-requests/approve', { body, signal })),
  denyRequests: (body: Schemas['DenyRequests']) => answer(client.POST('/api/joining-requests/deny', { body })),
  invitations: (signal?: AbortSignal) => allPages((after) => client.GET('/api/invitations', { params: { query: { after } }, signal })),
  invite: (body: Schemas['NewInvitation']) => answer(client.POST('/api/invitations', { body })),
  withdrawInvitation: (id: string) => answer(client.DELETE('/api/invitations/{id}', { params: { path: { id } } })),
  admissionRule: (no: number, signal?: AbortSignal) => answer(client.GET('/api/admission-rules/{no}', { params: { path: { no } }, signal })),
  makeAdmissionRule: (body: Schemas['NewAdmissionRule'], signal?: AbortSignal) => answer(client.POST('/api/admission-rules', { body, signal })),
  endAdmissionRule: (no: number) => answer(client.DELETE('/api/admission-rules/{no}', { params: { path: { no } } })),
  bringBack: (id: string, body: Schemas['BringBack']) => answer(client.POST('/api/retired-nodes/{id}/bring-back', { params: { path: { id } }, body })),
  labelNodes: (body: Schemas['LabelNodes']) => answer(client.POST('/api/labels', { body })),
  renameNode: (name: string, body: Schemas['RenameNode']) => answer(client.POST('/api/nodes/{name}/rename', { params: of(name), body })),
  retireNodes: (body: Schemas['RetireNodes']) => answer(client.POST('/api/retirements', { body })),
  revokeNode: (name: string) => answer(client.POST('/api/nodes/{name}/revoke', { params: of(name) })),
  editNode: (name: string, body: Schemas['EditNode']) => answer(client.POST('/api/nodes/{name}/edits', { params: of(name), body })),
  ownOfNode: (name: string, signal?: AbortSignal) => answer(client.GET('/api/nodes/{name}/own', { params: of(name), signal })),
  advanceStage: (name: string, body: Schemas['Advance']) => answer(client.POST('/api/stages/{name}/advance', { params: of(name), body })),
  serveInStage: (name: string, body: Schemas['Serve']) => answer(client.POST('/api/stages/{name}/serve', { params: of(name), body })),
  stages: (signal?: AbortSignal) => answer(client.GET('/api/stages', { signal })),
  baselines: (signal?: AbortSignal) => answer(client.GET('/api/baselines', { signal })),
  change: (no: number, signal?: AbortSignal) => answer(client.GET('/api/changes/{no}', { params: { path: { no } }, signal })),
  confirmChange: (no: number, body: Schemas['Confirmed']) => answer(client.POST('/api/changes/{no}/confirm', { params: { path: { no } }, body })),
  approveChange: (no: number, body: Schemas['Confirmed']) => answer(client.POST('/api/changes/{no}/approve', { params: { path: { no } }, body })),
  denyChange: (no: number, body: Schemas['DenyChange']) => answer(client.POST('/api/changes/{no}/deny', { params: { path: { no } }, body })),
  stopChange: (no: number) => answer(client.POST('/api/changes/{no}/stop', { params: { path: { no } } })),
  goBack: (no: number, body: Schemas['HowToChange']) => answer(client.POST('/api/changes/{no}/go-back', { params: { path: { no } }, body })),
  activities: (signal?: AbortSignal) => answer(client.GET('/api/activities', { signal })),
  pageFailed: (body: Schemas['PageError']) => answer(client.POST('/api/page-errors', { body })),
  kinds: (signal?: AbortSignal) => answer(client.GET('/api/kinds', { signal })),
};
