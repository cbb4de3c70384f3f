import { write, writeFirst } from './sentence';
import { span } from './time';

const now = Date.UTC(2026, 10, 23, 7, 42);
const at = (secs: number) => new Date(now + secs * 1_000).toISOString();

test('ages grow with the page, and what is due says whether it is late', () => {
  const contact = [{ text: 'last contact ' }, { ago: at(-240) }, { text: ', next ' }, { due: at(600) }];
  expect(write(contact, now)).toBe('last contact 4 min ago, next in 10 min');
  expect(write(contact, now + 900_000)).toBe('last contact 19 min ago, next was due 5 min ago');
  expect(write([{ text: 'desired since ' }, { span: at(-720) }], now)).toBe('desired since 12 min');
});

test('a moment is written in the zone of the reader, with the zone named', () => {
  expect(writeFirst([{ text: 'frozen by F7 until ' }, { time: at(0) }], now)).toMatch(/^Frozen by F7 until 23 Nov 2026, \d\d:42:00 \S+/);
});

test.each([
  [119, '119 s'],
  [120, '2 min'],
  [7_199, '119 min'],
  [7_200, '2 h'],
  [172_800, '2 days'],
])('%i seconds read as %s', (secs, words) => expect(span(secs)).toBe(words));
