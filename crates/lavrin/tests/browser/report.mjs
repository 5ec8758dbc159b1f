// Looks at a report in a real browser, as its readers do: `report.mjs PLAYWRIGHT PAGE.html MATRIX.json`. Prints what it found as JSON;
// the test decides. Nothing here knows how the page is built beyond what a reader sees.
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";

const [modules, page, matrix] = process.argv.slice(2);
const { chromium } = createRequire(modules + "/")("playwright-core");
const browser = await chromium.launch({
  executablePath: "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync"],
});
const said = [], asked = [];

async function open(scheme, width, height) {
  const context = await browser.newContext({ colorScheme: scheme, viewport: { width, height } });
  const tab = await context.newPage();
  tab.on("console", (message) => said.push(message.text()));
  tab.on("pageerror", (error) => said.push(String(error)));
  tab.on("dialog", (dialog) => { said.push("dialog: " + dialog.message()); dialog.dismiss(); });
  tab.on("request", (request) => { if (!request.url().startsWith("file://" + page)) asked.push(request.url()); });
  await tab.goto("file://" + page);
  return tab;
}

// The contrast of every text with what is behind it (WCAG 2.2, 1.4.3).
const contrasts = (tab) => tab.evaluate(() => {
  const number = (text) => {
    const parts = text.match(/[\d.]+/g).map(Number);
    return parts.length > 3 && parts[3] === 0 ? null : parts.slice(0, 3);
  };
  const light = (rgb) => {
    const [r, g, b] = rgb.map((part) => { part /= 255; return part <= 0.03928 ? part / 12.92 : ((part + 0.055) / 1.055) ** 2.4; });
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const behind = (element) => {
    for (let at = element; at; at = at.parentElement) {
      const colour = number(getComputedStyle(at).backgroundColor);
      if (colour) return colour;
    }
    return [255, 255, 255];
  };
  const poor = [];
  let seen = 0;
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  for (let text = walker.nextNode(); text; text = walker.nextNode()) {
    const element = text.parentElement;
    if (!text.data.trim() || ["SCRIPT", "STYLE"].includes(element.tagName)) continue;
    const style = getComputedStyle(element);
    const svg = element.closest("svg");
    const rect = element.getBoundingClientRect();
    if (style.visibility === "hidden" || rect.width === 0 || rect.height <= 1) continue;
    // Text in a drawing of hosts stands on its box.
    const box = svg && element.tagName === "text" && svg.classList.contains("graph") ? svg.querySelector("rect.l1, rect.l0") : null;
    const ground = box ? number(getComputedStyle(box).fill) : behind(element);
    const colour = number(svg ? style.fill : style.color);
    if (!colour) continue;
    seen += 1;
    const [a, b] = [light(colour), light(ground)].sort((x, y) => y - x);
    const ratio = (a + 0.05) / (b + 0.05);
    if (ratio < 4.5) poor.push(text.data.trim().slice(0, 30) + " " + ratio.toFixed(2));
  }
  return { seen, poor };
});

const found = { contrast: {}, widths: {}, wide: [] };
for (const scheme of ["light", "dark"]) {
  const tab = await open(scheme, 1280, 800);
  // What is folded is looked at too.
  await tab.evaluate(() => document.querySelectorAll("details").forEach((one) => { one.open = true; }));
  found.contrast[scheme] = await contrasts(tab);
  await tab.context().close();
}
for (const width of [1280, 390]) {
  const tab = await open("light", width, 844);
  found.widths[width] = await tab.evaluate(() => document.documentElement.scrollWidth);
  found.wide.push(...await tab.evaluate((width) => [...document.querySelectorAll("main *, header *")]
    .filter((one) => one.getBoundingClientRect().right > width && !one.closest(".scroll") && !one.closest(".skip"))
    .map((one) => `${width}: ${one.tagName} ${one.innerText ?? ""}`.slice(0, 80)), width));
  await tab.context().close();
}

const tab = await open("light", 1280, 800);
found.title = await tab.title();
found.text = await tab.evaluate(() => document.body.innerText);
found.landmarks = await tab.evaluate(() => ["header", "nav", "main", "footer"].map((name) => document.querySelectorAll(name).length));
found.headings = await tab.evaluate(() => [...document.querySelectorAll("section")].map((section) =>
  document.getElementById(section.getAttribute("aria-labelledby"))?.innerText));
found.images = await tab.evaluate(() => [...document.querySelectorAll("svg[role=img], [role=region]")].every((one) => one.getAttribute("aria-label")));

// The matrix cell by cell: whose row, which column, which account, in which state.
found.cells = await tab.evaluate(() => {
  const heads = [...document.querySelectorAll(".matrix thead th")].map((head) => head.dataset.host);
  const cells = [];
  for (const row of document.querySelectorAll(".matrix tbody tr")) {
    [...row.children].forEach((cell, column) => cell.querySelectorAll("li").forEach((way) =>
      cells.push([row.dataset.owner, heads[column], way.querySelector("b").innerText, way.dataset.state].join(" "))));
  }
  return cells.sort();
});
const told = JSON.parse(readFileSync(matrix, "utf8"));
found.expected = told.ways.map((way) => [way.owner ?? "owner unknown", way.host, way.account, way.state].join(" ")).sort();

// The order of the tab key is that of the page.
found.tabs = await (async () => {
  const order = [];
  for (let at = 0; at < 12; at += 1) {
    await tab.keyboard.press("Tab");
    order.push(await tab.evaluate(() => document.activeElement.innerText || document.activeElement.id));
  }
  return order;
})();
found.inOrder = await tab.evaluate(() => [...document.querySelectorAll("[tabindex]")].every((one) => Number(one.getAttribute("tabindex")) <= 0));

// Typing filters, and what is typed away comes back.
const rows = () => tab.evaluate(() => [...document.querySelectorAll(".matrix tbody tr")].filter((row) => !row.hidden).length);
found.rows = [await rows()];
await tab.fill("#typed", told.ways.find((way) => way.owner)?.owner ?? "");
await tab.waitForTimeout(400);
found.rows.push(await rows());
await tab.fill("#typed", "");
await tab.waitForTimeout(400);
found.rows.push(await rows());

// A section can be linked to, and then it is what is printed.
await tab.goto("file://" + page + "#host-lantern");
await tab.emulateMedia({ media: "print" });
found.printed = await tab.evaluate(() => [...document.querySelectorAll(".part")].filter((part) => part.getBoundingClientRect().height > 0).length);
await tab.emulateMedia({ media: "screen" });

// Without a script the page says everything.
const plain = await browser.newContext({ javaScriptEnabled: false });
const still = await plain.newPage();
await still.goto("file://" + page);
found.withoutScript = (await still.locator("body").innerText()).length;
found.filterWithoutScript = await still.locator("#filter").isVisible();

found.said = said;
found.asked = asked;
console.log(JSON.stringify(found));
await browser.close();
