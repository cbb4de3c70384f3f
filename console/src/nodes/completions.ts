/** Fields that a filter of a list may ask for, besides labels. */
const FIELDS = [
  'node.name', 'node.sign', 'node.hearing', 'node.mode', 'node.stage', 'node.groups', 'node.releases', 'node.troubles', 'node.open_episodes',
  'about.os.family', 'about.os.name', 'about.os.version', 'about.arch', 'about.cpu.count', 'about.memory.mib', 'about.init', 'about.packages', 'about.virtual',
];

/** The words that some fields can have. */
const VALUES: Record<string, string[]> = {
  'node.sign': ['failed', 'state_unusable', 'drift_found', 'unmet', 'silent', 'never_reported', 'rollout_waiting', 'drift_corrected', 'rolled_out', 'not_all_seen', 'in_line', 'revoked'],
  'node.hearing': ['on_time', 'late', 'silent', 'never_reported'],
  'node.mode': ['observe', 'enforce'],
  'node.troubles': ['state_unusable', 'double', 'certificate_ends', 'runs_overdue', 'memory_lost', 'clock_off'],
};

/** What can be typed at a place of a filter, and which part of it that would replace. */
export interface Completions {
  from: number;
  to: number;
  options: string[];
}

/** Returns what can be typed where the caret is: the rest of a field, or one of its words. */
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

/** Returns a filter with a completion put in, and where the caret goes. */
export function complete(text: string, { from, to }: Completions, option: string): { text: string; caret: number } {
  return { text: text.slice(0, from) + option + text.slice(to), caret: from + option.length };
}
