// Drives headless Chromium as the tests say: a line of JSON in, a line of JSON out. Every wait has an end.
import { createRequire } from 'node:module';
import { createInterface } from 'node:readline';

const packages = createRequire(`${process.env.CONSOLE}/`);
const { chromium } = packages('playwright-core');
const quiet = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync'];
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: quiet });
const context = await browser.newContext({ ignoreHTTPSErrors: true, viewport: { width: 1280, height: 800 }, colorScheme: process.env.SCHEME ?? 'light' });
const page = await context.newPage();
page.setDefaultTimeout(15_000);
const complaints = [];
page.on('console', (message) => message.type() === 'error' && complaints.push(message.text()));
page.on('pageerror', (error) => complaints.push(String(error)));

/** A page whose colours or places are on their way is looked at again: what is found is what stays. */
async function oncePageIsStill(find) {
  let found = await find();
  for (let again = 0; again < 4 && found.length > 0; again += 1) {
    await page.waitForTimeout(500);
    found = await find();
  }
  return found;
}

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
  /** How many there are once what moves has come to rest. */
  count: async ({ of }) => {
    await page.waitForTimeout(400);
    return String(await page.locator(of).count());
  },
  complaints: () => complaints,
  size: ({ width, height }) => page.setViewportSize({ width, height }),
  scheme: async ({ scheme }) => {
    await page.emulateMedia({ colorScheme: scheme });
    // Until the colours have moved over.
    await page.waitForTimeout(400);
  },
  /** Waits until nothing is fetched any more. */
  settled: () => page.waitForLoadState('networkidle', { timeout: 3_000 }).catch(() => {}),
  /** What is wider than the window, apart from what scrolls by itself. */
  overflow: () =>
    oncePageIsStill(() =>
      page.evaluate(() => {
        const room = document.documentElement.clientWidth;
        if (document.documentElement.scrollWidth <= room) return [];
        const scrolls = (one) => one !== document.body && (getComputedStyle(one).overflowX !== 'visible' || scrolls(one.parentElement));
        const wide = [...document.querySelectorAll('body *')].filter((one) => one.getBoundingClientRect().right > room + 0.5 && !scrolls(one.parentElement));
        return wide.slice(-3).map((one) => `${one.tagName.toLowerCase()} to ${Math.round(one.getBoundingClientRect().right)} of ${room}: ${(one.textContent ?? '').slice(0, 60)}`);
      }),
    ),
  /** What keeps people with a screen reader, a keyboard or weak eyes from using the page, by the rules of WCAG 2.2. */
  violations: () =>
    oncePageIsStill(async () => {
      if (!(await page.evaluate(() => 'axe' in window))) await page.evaluate(packages('axe-core').source);
      const found = await page.evaluate(() => window.axe.run(document, { resultTypes: ['violations'] }));
      return found.violations.flatMap(({ id, help, nodes }) => nodes.slice(0, 3).map(({ html, any }) => `${id} (${help}): ${html.slice(0, 200)} ${any[0]?.message ?? ''}`));
    }),
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
