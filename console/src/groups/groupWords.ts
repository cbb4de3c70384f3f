import type { Schemas } from '../api/client';
import { count } from '../words/words';

/** The address of a group's page. */
export function groupAddress(name: string): string {
  return `/groups/${encodeURIComponent(name)}`;
}

/** What another group gives to some of the nodes. */
export function givenWords({ group, priority, nodes }: Schemas['GivenBy']): string {
  return `${group} (priority ${priority}), for ${count(nodes, 'node')}`;
}

/** Some names, and how many more there are. */
export function someNames(names: string[], of: number, most = 6): string {
  const shown = names.slice(0, most).join(', ');
  return of > most ? `${shown} and ${(of - Math.min(most, names.length)).toLocaleString('en')} more` : shown;
}
