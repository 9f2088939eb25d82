// Uses the page of a diagram in a browser, by mouse and by keys, and reads its Markdown form.
import assert from "node:assert/strict";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
const tools = createRequire(new URL("../../../tools/browser/package.json", import.meta.url));
const { chromium } = tools("playwright-core");

const dir = process.argv[2];
const browser = await chromium.launch({
  executablePath: "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync"],
});
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
const asked = [], errors = [];
page.on("request", (r) => { if (!r.url().startsWith("file:")) asked.push(r.url()); });
page.on("pageerror", (e) => errors.push(String(e)));
const view = async () => (await page.$eval("#stage svg", (s) => s.getAttribute("viewBox"))).split(" ").map(Number);
const classes = (selector) => page.$eval(selector, (e) => e.getAttribute("class"));
const shown = (selector) => page.$eval(selector, (e) => getComputedStyle(e).display !== "none");

await page.goto("file://" + dir + "/herbarium.html");
let before = await view();

// By mouse: moved, larger, chosen.
await page.mouse.move(640, 700);
await page.mouse.down();
await page.mouse.move(540, 650, { steps: 4 });
await page.mouse.up();
let now = await view();
assert.ok(now[0] > before[0] && now[1] > before[1] && now[2] === before[2], "moved by mouse");
await page.mouse.wheel(0, -400);
assert.ok((await view())[2] < now[2], "larger by the wheel");
await page.click("#fit");
assert.deepEqual(await view(), before, "fit");
await page.click("#box-taxa .frame");
assert.match(await classes("#stage svg"), /chosen/);
assert.match(await classes("#box-specimens"), /near/);
assert.doesNotMatch(await classes("#box-borrowers"), /near/);
await page.keyboard.press("Escape");
assert.doesNotMatch(await classes("#stage svg"), /chosen/);

// By keys: moved, larger, all, types, found, chosen.
for (const [key, test] of [["ArrowRight", (a, b) => b[0] > a[0]], ["ArrowUp", (a, b) => b[1] < a[1]], ["+", (a, b) => b[2] < a[2]],
  ["-", (a, b) => b[2] > a[2]]]) {
  const a = await view();
  await page.keyboard.press(key);
  assert.ok(test(a, await view()), "the key " + key);
}
await page.keyboard.press("0");
assert.deepEqual(await view(), before, "the key 0");
assert.ok(await shown(".type"));
await page.keyboard.press("t");
assert.ok(!(await shown(".type")), "types are hidden");
assert.equal(await page.$eval("#types", (b) => b.getAttribute("aria-pressed")), "false");
await page.keyboard.press("t");
await page.keyboard.press("/");
await page.keyboard.type("weight_g");
assert.match(await classes("#box-specimens"), /found/, "a field is found");
await page.fill("#find", "loan");
assert.match(await classes("#box-loans"), /found/);
assert.doesNotMatch(await classes("#box-specimens"), /found/);
await page.keyboard.press("Escape");
assert.doesNotMatch(await classes("#box-loans"), /found/);
await page.keyboard.press("Tab");
for (let i = 0; i < 9 && !(await page.evaluate(() => document.activeElement.classList.contains("box"))); i++) await page.keyboard.press("Tab");
await page.keyboard.press("Enter");
assert.match(await classes("#stage svg"), /chosen/, "chosen by keys");
await page.keyboard.press("Escape");

// Light, dark, printed.
const paper = () => page.$eval("#box-taxa .frame", (e) => getComputedStyle(e).fill);
await page.emulateMedia({ colorScheme: "light" });
const light = await paper();
await page.emulateMedia({ colorScheme: "dark" });
assert.notEqual(await paper(), light, "dark is another colour");
await page.emulateMedia({ media: "print", colorScheme: "dark" });
assert.equal(await paper(), "rgb(255, 255, 255)", "printed on white");
assert.ok(!(await shown("header")), "nothing to press on paper");
await page.emulateMedia({ media: "screen", colorScheme: "light" });

// Many: names alone from far away, fields when it is larger; nothing of a text is wider than it was counted.
await page.goto("file://" + dir + "/large.html");
assert.ok(!(await shown(".rows")) && await shown(".far"), "names alone");
const high = await page.$$eval(".far", (all) => Math.min(...all.map((e) => parseFloat(getComputedStyle(e).fontSize) * e.getScreenCTM().a)));
assert.ok(high >= 6, "names of " + high + " px");
for (let i = 0; i < 8; i++) await page.keyboard.press("+");
assert.ok(await shown(".rows") && !(await shown(".far")), "fields");
const wide = await page.$$eval(".label, .name, .type", (all) => all.filter((e) => Math.abs(e.getComputedTextLength() - e.getAttribute("textLength")) > 1).length);
assert.equal(wide, 0, "texts as wide as counted");

for (const name of ["herbarium", "large"]) {
  await page.goto("file://" + dir + "/" + name + ".svg");
  assert.equal(await page.evaluate(() => document.documentElement.tagName), "svg");
}

// The Markdown form, by its own parser.
await page.goto("about:blank");
await page.addScriptTag({ path: tools.resolve("mermaid/dist/mermaid.min.js") });
for (const name of ["herbarium", "large"]) {
  const text = readFileSync(dir + "/" + name + ".mmd", "utf8");
  const kind = await page.evaluate(async (t) => (await globalThis.mermaid.parse(t)).diagramType, text);
  assert.match(kind, /^er/, name);
}
assert.deepEqual(asked.filter((u) => !u.startsWith("about:")), [], "no network");
assert.deepEqual(errors, []);
await browser.close();
