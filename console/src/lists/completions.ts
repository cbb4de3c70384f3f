import words from '../words/words.json';

/** What can be written in a filter. */
export interface Vocabulary {
  /** Its fields. */
  fields: string[];
  /** Values of fields, as far as they are known. */
  values: Record<string, string[]>;
}

/** The fields that filters of a list can ask for, by the name of the list. */
const LIST_FIELDS: Record<string, string[]> = words.list_fields;

/** The fields of a list, as `change.who`. */
export function fieldsOf(list: string): string[] {
  return LIST_FIELDS[list] ?? [];
}

/** Completions at a position of a filter, and the range that they replace. */
export interface Completions {
  from: number;
  to: number;
  options: string[];
}

/** Returns the completions at the caret: field names, or values of the field. */
export function completionsAt(text: string, caret: number, vocabulary: Vocabulary): Completions {
  const before = text.slice(0, caret);
  const value = /([\w.]+)\s*(?:==|!=)\s*"([^"]*)$/.exec(before);
  if (value) {
    const [, field = '', typed = ''] = value;
    const known = vocabulary.values[field] ?? [];
    return { from: caret - typed.length, to: caret, options: known.filter((word) => word.startsWith(typed) && word !== typed) };
  }
  const typed = /[\w.]*$/.exec(before)?.[0] ?? '';
  if ((before.match(/"/g)?.length ?? 0) % 2 === 1) return { from: caret, to: caret, options: [] };
  const known = [...vocabulary.fields].sort();
  return { from: caret - typed.length, to: caret, options: typed ? known.filter((field) => field.includes(typed) && field !== typed) : [] };
}

/** Returns the filter with a completion inserted, and the new position of the caret. */
export function complete(text: string, { from, to }: Completions, option: string): { text: string; caret: number } {
  return { text: text.slice(0, from) + option + text.slice(to), caret: from + option.length };
}
