// Every package that goes into the console's pages has a licence of the list.
import { readFileSync } from 'node:fs';

const allowed = new Set(['MIT', 'BSD-3-Clause', 'BSD-2-Clause', 'Apache-2.0', 'ISC', '0BSD', 'OFL-1.1']);
const lock = JSON.parse(readFileSync('console/package-lock.json', 'utf8'));
const refused = Object.entries(lock.packages)
  // `A AND B`: both count.
  .filter(([path, entry]) => path !== '' && !entry.dev && !(entry.license ?? '').split(' AND ').every((licence) => allowed.has(licence)))
  .map(([path, entry]) => `${entry.license ?? 'none'}: ${path}`);
if (refused.length > 0) {
  console.log(`licences that ci/console-licences.mjs does not name:\n${refused.join('\n')}`);
  process.exit(1);
}
