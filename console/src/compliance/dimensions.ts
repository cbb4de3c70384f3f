/** Labels with more values than this are names rather than places. */
const MOST_VALUES = 50;
const MOST_LABELS = 4;

/** What can be counted by: also the labels with few values, and the chosen one. */
export function dimensionsOf(fixed: string[], labels: Record<string, string[]>, by: string): string[] {
  const few = Object.entries(labels).filter(([, values]) => values.length <= MOST_VALUES);
  const ofLabels = few.slice(0, MOST_LABELS).map(([label]) => `label:${label}`);
  return [...new Set([...fixed, ...ofLabels, by])];
}
