/** Where what was found of a clause on a node is accepted. */
export function acceptAddress(node: string, clause: string): string {
  return `/drift?clause=${encodeURIComponent(clause)}&accept=${encodeURIComponent(node)}`;
}
