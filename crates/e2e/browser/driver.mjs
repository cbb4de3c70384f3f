// Drives headless Chromium as the tests say: a line of JSON in, a line of JSON out. Every wait has an end.
import { createRequire } from 'node:module';
import { createInterface } from 'node:readline';

const { chromium } = createRequire(`${process.env.CONSOLE}/`)('playwright-core');
const quiet = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'];
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: quiet });
const context = await browser.newContext({ ignoreHTTPSErrors: true, viewport: { width: 1280, height: 800 }, colorScheme: process.env.SCHEME ?? 'light' });
const page = await context.newPage();
page.setDefaultTimeout(15_000);
const complaints = [];
page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
page.on('pageerror', (error) => complaints.push(String(error)));

const steps = {
  goto: ({ url }) => page.goto(url, { waitUntil: 'domcontentloaded' }),
  see: ({ text }) => page.getByText(text).first().waitFor(),
  gone: ({ text }) => page.getByText(text).first().waitFor({ state: 'hidden' }),
  click: ({ role, name }) => page.getByRole(role, { name }).first().click(),
  fill: ({ label, text }) => page.getByLabel(label, { exact: true }).fill(text),
  press: ({ key }) => page.keyboard.press(key),
  type: ({ text }) => page.keyboard.type(text),
  shot: async ({ path }) => {
    await page.waitForTimeout(400);
    await page.screenshot({ path });
  },
  address: () => page.url(),
  text: () => page.locator('body').innerText(),
  complaints: () => complaints,
};

for await (const line of createInterface({ input: process.stdin })) {
  const step = JSON.parse(line);
  try {
    const value = await steps[step.do](step);
    console.log(JSON.stringify({ ok: true, value: typeof value === 'string' || Array.isArray(value) ? value : null }));
  } catch (error) {
    const text = await page.locator('body').innerText().catch(() => '');
    console.log(JSON.stringify({ ok: false, value: `${error}\nat ${page.url()}:\n${text}\n${complaints.join('\n')}` }));
  }
}
await browser.close();
