import type { Schemas } from '../api/client';

/** Returns the labels that nodes have, each with its values. */
export function labelsOf(nodes: Schemas['NodeSummary'][]): Record<string, string[]> {
  const labels: Record<string, Set<string>> = {};
  for (const node of nodes) {
    for (const [label, value] of Object.entries(node.labels)) {
      labels[label] ??= new Set();
      labels[label].add(value);
    }
  }
  return Object.fromEntries(Object.entries(labels).map(([label, values]) => [label, [...values].sort()]));
}
