/** The dimensions of which one key can be asked about alone. */
const ALONE = ['control', 'baseline', 'release', 'severity', 'clause'];

/** What asks about the clauses of one key alone; none for keys of nodes, which a filter asks about. */
export function onlyOf(by: string, key: string): string | undefined {
  return ALONE.includes(by) ? `${by}:${key}` : undefined;
}

/** The clauses that are asked about, as an argument of a command. */
export function onlyArgument(only: string): string {
  return only && ` --only '${only.replaceAll("'", "'\\''")}'`;
}

/** The same in words: control SK-9. */
export function onlyWords(only: string): string {
  return only.replace(':', ' ');
}

/** The control whose clauses are asked about alone; empty if it is none. */
export function controlOf(only: string): string {
  return only.startsWith('control:') ? only.slice('control:'.length) : '';
}
