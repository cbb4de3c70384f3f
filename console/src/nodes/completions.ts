/** Fields that filters of lists can use, besides labels. */
const FIELDS = [
  'node.name',
  'node.status',
  'node.last_contact',
  'node.mode',
  'node.stage',
  'node.groups',
  'node.releases',
  'node.problems',
  'node.open_episodes',
  'about.os.family',
  'about.os.name',
  'about.os.version',
  'about.arch',
  'about.cpu.count',
  'about.memory.mib',
  'about.init',
  'about.packages',
  'about.virtual',
];

/** Values of fields with a fixed set of values. */
const VALUES: Record<string, string[]> = {
  'node.status': [
    'failed',
    'state_unusable',
    'drift_found',
    'unmet',
    'silent',
    'never_reported',
    'rollout_waiting',
    'drift_corrected',
    'rolled_out',
    'not_all_seen',
    'in_line',
    'revoked',
  ],
  'node.last_contact': ['on_time', 'late', 'silent', 'never_reported'],
  'node.mode': ['observe', 'enforce'],
  'node.problems': ['state_unusable', 'duplicate_identity', 'certificate_ends', 'runs_overdue', 'memory_lost', 'clock_off'],
};

/** Completions at a position of a filter, and the range that they replace. */
export interface Completions {
  from: number;
  to: number;
  options: string[];
}

/** Returns the completions at the caret: field names, or values of the field. */
export function completionsAt(text: string, caret: number, labels: Record<string, string[]>): Completions {
  const before = text.slice(0, caret);
  const value = /([\w.]+)\s*(?:==|!=)\s*"([^"]*)$/.exec(before);
  if (value) {
    const [, field = '', typed = ''] = value;
    const known = VALUES[field] ?? labels[field.replace(/^labels\./, '')] ?? [];
    return { from: caret - typed.length, to: caret, options: known.filter((word) => word.startsWith(typed) && word !== typed) };
  }
  const typed = /[\w.]*$/.exec(before)?.[0] ?? '';
  if ((before.match(/"/g)?.length ?? 0) % 2 === 1) return { from: caret, to: caret, options: [] };
  const known = [...FIELDS, ...Object.keys(labels).map((label) => `labels.${label}`)].sort();
  return { from: caret - typed.length, to: caret, options: typed ? known.filter((field) => field.includes(typed) && field !== typed) : [] };
}

/** Returns the filter with a completion inserted, and the new position of the caret. */
export function complete(text: string, { from, to }: Completions, option: string): { text: string; caret: number } {
  return { text: text.slice(0, from) + option + text.slice(to), caret: from + option.length };
}
