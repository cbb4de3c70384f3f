/** A value of a parameter or a setting as it is written in a document; "–" for none. */
export function describedValue(value: unknown): string {
  if (value === undefined || value === null) return '–';
  return typeof value === 'string' ? value : JSON.stringify(value);
}

/**
 * Reads what a person typed as a value: JSON where it is some, a text otherwise. A parameter that takes a text is given what was
 * typed, whatever it looks like.
 */
export function typedValue(text: string, isText: boolean): unknown {
  if (isText) return text;
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
