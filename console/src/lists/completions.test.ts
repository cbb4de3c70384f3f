import { complete, completionsAt } from './completions';

const labels = {
  fields: ['labels.role', 'labels.site', 'node.status', 'about.memory.mib'],
  values: { 'labels.site': ['auken', 'brisk'], 'node.status': ['drift_found', 'drift_corrected', 'failed'] },
};

test.each([
  ['lab', ['labels.role', 'labels.site']],
  ['node.stat', ['node.status']],
  ['labels.site == "a', ['auken']],
  ['node.status == "drift', ['drift_found', 'drift_corrected']],
  ['labels.site == "auken" && about.mem', ['about.memory.mib']],
  ['labels.note == "lab', []],
  ['', []],
])('at the end of %s there can be %j', (text, options) => {
  expect(completionsAt(text, text.length, labels).options).toEqual(options);
});

test('a completion replaces what was typed of it and leaves the rest', () => {
  const text = 'node.stat == "failed"';
  const taken = complete(text, completionsAt(text, 9, labels), 'node.status');
  expect(taken).toEqual({ text: 'node.status == "failed"', caret: 11 });
});
