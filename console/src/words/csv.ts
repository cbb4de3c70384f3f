/** Writes rows as CSV (RFC 4180), with a head. What a spreadsheet would take for a formula begins with an apostrophe. */
export function toCsv(heads: string[], rows: string[][]): string {
  return [heads, ...rows]
    .map((row) => row.map(cell).join(','))
    .join('\r\n')
    .concat('\r\n');
}

function cell(text: string): string {
  const harmless = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless;
}

/** Has the browser save a text as a file. */
export function save(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: 'text/csv;charset=utf-8' }));
  const link = Object.assign(document.createElement('a'), { href: url, download: name });
  link.click();
  URL.revokeObjectURL(url);
}
