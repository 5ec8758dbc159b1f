// Pictures of a page in a real browser: `page-shot.mjs PLAYWRIGHT PAGE.html OUT.png light|dark|phone`. A phone is shown in both schemes.
import { createRequire } from "node:module";
import { writeFileSync } from "node:fs";

const [modules, page, out, kind] = process.argv.slice(2);
const { chromium } = createRequire(modules + "/")("playwright-core");
const browser = await chromium.launch({ executablePath: "/usr/bin/chromium", args: ["--no-sandbox", "--disable-gpu", "--hide-scrollbars"] });

async function shot(colorScheme, width, height) {
  const tab = await (await browser.newContext({ colorScheme, viewport: { width, height } })).newPage();
  await tab.goto("file://" + page);
  return tab.screenshot();
}

async function write(bytes) {
  const tab = await (await browser.newContext({ viewport: { width: 800, height: 844 } })).newPage();
  const images = bytes.map((one) => `<img src="data:image/png;base64,${one.toString("base64")}">`).join("");
  await tab.setContent(`<body style="margin:0;display:flex;gap:20px;background:#888">${images}</body>`);
  await tab.screenshot({ path: out });
}

if (kind === "phone") {
  await write([await shot("light", 390, 844), await shot("dark", 390, 844)]);
} else {

  writeFileSync(out, await shot(kind, 1280, 800));
}
await browser.close();
