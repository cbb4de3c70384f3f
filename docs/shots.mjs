// Pictures of the console's pages on the demo's fleet: node docs/shots.mjs LINK FOLDER
import { createRequire } from 'node:module';

const { chromium } = createRequire(`${process.env.CONSOLE}/`)('playwright-core');
const [link, folder] = process.argv.slice(2);
const base = new URL(link).origin;
const quiet = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'];
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: quiet });
const context = await browser.newContext({ ignoreHTTPSErrors: true, viewport: { width: 1280, height: 800 }, colorScheme: 'light' });
const page = await context.newPage();

async function shot(name, path, seen) {
  if (path) await page.goto(base + path);
  await page.getByText(seen).first().waitFor();
  await page.waitForTimeout(800);
  await page.screenshot({ path: `${folder}/${name}.png` });
}

await page.goto(link);
await page.getByLabel('Password *', { exact: true }).fill('herring under the pier');
await page.getByLabel('Repeat password *').fill('herring under the pier');
await page.getByRole('button', { name: 'Set password' }).click();
await shot('overview-light', undefined, 'Needs attention');
await shot('nodes', '/nodes?filter=labels.site+in+["auken",+"brisk"]', 'Last full run');
await shot('node', '/nodes/gate-auken-1?clause=file:/etc/gate/tariffs.csv', 'Result in the run');
await page.getByRole('link', { name: 'Result in the run' }).click();
await shot('run', undefined, 'Began');
await shot('compliance', '/compliance', 'points in all');
await shot('controls', '/compliance/controls?control=SK-11', 'without a clause for it');
await shot('concessions', '/compliance/concessions', 'in force');
await shot('drift', '/drift', 'Corrected after');
await shot('sweep', '/activity/S1', 'What failed, by clause');
await shot('rollout', `/changes/${process.env.ROLLOUT}`, 'What failed, by clause');
await shot('change', `/changes/${process.env.CHANGE}`, 'Impact');
await page.goto(`${base}/groups/kiosks`);
await page.getByLabel('kiosk-floor/kiosk-lockdown.idle_seconds').fill('60');
await page.keyboard.press('Enter');
await page.getByRole('button', { name: 'Show the impact' }).click();
await page.getByRole('button', { name: 'Save…' }).waitFor();
await page.mouse.wheel(0, -2000);
await shot('group', undefined, 'Assignments, in this order');
await page.getByRole('button', { name: 'Discard' }).click();
await page.goto(`${base}/joining`);
await page.getByLabel('select kiosk-corran-1', { exact: true }).check();
await page.getByRole('button', { name: 'Approve…' }).click();
await page.getByLabel('Labels, over those of their invitations').fill('site=corran lab=yes');
await page.getByLabel('Mode of their own').click();
await page.getByRole('option', { name: 'observe' }).click();
await page.getByText('lab=yes role=kiosk').waitFor();
await shot('joining', undefined, 'Stage, mode');
await page.getByRole('button', { name: 'Cancel' }).click();
await shot('release', '/kits/quay-base/1.5.0', 'The account guest must not exist.');
await page.goto(process.env.EVIDENCE);
await shot('evidence', undefined, 'By control');
await page.emulateMedia({ colorScheme: 'dark' });
await shot('server', '/server', 'Certificates');
await browser.close();
