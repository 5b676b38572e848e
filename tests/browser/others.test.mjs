// Who may what, what a screen reader finds, and how much goes over the wire.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { goTo, openBrowser, openPage, startStation, until } from "./station.mjs";

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");
const VIEWS = ["live", "sightings", "limits", "zones", "settings", "station"];
let station, browser;

before(async () => {
  browser = await openBrowser();
  station = await startStation([["ann", "run", "frogspawn"], ["bob", "look", "tadpoles"], ["mia", "run", "froglets", "mere"]]);
}, { timeout: 120000 });

after(async () => {
  await browser.close();
  await station.stop();
});

/** Something done on a page of its own, which is closed whatever comes of it. */
async function on(options, work) {
  const page = await openPage(browser, station.url, options);
  try { await work(page); assert.deepEqual(page.wrong, []); }
  finally { await page.context().close(); }
}

async function logIn(page, name, password) {
  await page.fill("#name", name);
  await page.fill("#password", password);
  await page.click("#login button");
}

test("who is not known is refused, and who may only look sees nothing to change", () => on({}, async (page) => {
  await page.waitForSelector("#login:not([hidden])");
  assert.equal(await page.locator("#tabs").isVisible(), false);
  await logIn(page, "bob", "frogspawn");
  await until("it is refused", async () => /name or password are wrong/.test(await page.locator("#notice").innerText()));
  await logIn(page, "bob", "tadpoles");
  await page.waitForSelector("article[aria-label=kerb]");
  for (const v of ["limits", "zones", "settings"]) assert.equal(await page.locator("#tab-" + v).isVisible(), false);
  assert.equal(await page.getByRole("button", { name: "Disarm" }).count(), 0);
  await page.goto(station.url + "#settings", { waitUntil: "domcontentloaded" });
  await page.waitForSelector("#view-live:not([hidden])");
  const refused = await page.evaluate(async () => {
    const me = await (await fetch("/api/me")).json();
    const order = await fetch("/api/order", { method: "POST", body: "{\"do\":\"disarm\"}", headers: { "X-Tawny-Change": me.change } });
    return [order.status, (await fetch("/api/settings")).status, (await fetch("/api/settings/file")).status];
  });
  assert.deepEqual(refused, [403, 403, 403]);
  await page.click("#logout");
  await page.waitForSelector("#login:not([hidden])");
}));

async function serious(page, where) {
  const found = await page.evaluate(async () => {
    const result = await window.axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
    return result.violations.filter((v) => ["serious", "critical"].includes(v.impact))
      .map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.target.join(" ") + " " + (n.any[0] || n.all[0] || n.none[0] || {}).message).join(" | "));
  });
  assert.deepEqual(found, [], where);
}

// The accessibility checker is put in by the browser itself: the page allows no code but its own.
for (const [name, options] of [["at a desk", {}], ["in the dark", { colorScheme: "dark" }],
  ["on a phone", { viewport: { width: 390, height: 844 }, hasTouch: true, isMobile: true }], ["on a phone in the dark", { viewport: { width: 390, height: 844 }, colorScheme: "dark" }]])
  test("nothing serious for who uses other means than sight: " + name, () => on({ bypassCSP: true, ...options }, async (page) => {
    await page.addScriptTag({ content: axe });
    await page.waitForSelector("#login:not([hidden])");
    await serious(page, "login");
    await logIn(page, "ann", "frogspawn");
    await page.waitForSelector("article[aria-label=kerb]");
    for (const v of VIEWS) {
      await goTo(page, v);
      await page.waitForTimeout(800);
      if (v === "live") for (const b of ["Overlay", "Focus"]) await page.locator("article[aria-label=kerb]").getByRole("button", { name: b }).click();
      if (v === "zones") { await page.click("#zones-new"); await page.click("#zones-new"); }
      if (v === "live") await page.waitForTimeout(800);
      await serious(page, v);
      const wide = await page.evaluate(() => document.documentElement.scrollWidth - document.documentElement.clientWidth);
      assert.ok(wide <= 0, v + " is wider than the screen by " + wide);
    }
  }));

test("an account of one camera sees that one, and may do with it what it may", () => on({}, async (page) => {
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "mia", "froglets");
  await page.waitForSelector("article[aria-label=mere]");
  assert.equal(await page.locator("article").count(), 1);
  assert.match(await page.locator("#who").innerText(), /mia may run: mere/);
  for (const v of ["limits", "zones", "settings", "station"]) assert.equal(await page.locator("#tab-" + v).isVisible(), false);
  await page.locator("article[aria-label=mere]").getByRole("button", { name: "Trigger" }).click();
  await goTo(page, "sightings");
  await until("its sighting is there", async () => /mere/.test(await page.locator("#list").innerText()));
  assert.doesNotMatch(await page.locator("#list").innerText(), /kerb/);
  assert.deepEqual(await page.locator(".strip-name").allInnerTexts(), ["mere"]);
}));

test("all of it is reached by keys alone", () => on({}, async (page) => {
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "ann", "frogspawn");
  await page.waitForSelector("article[aria-label=kerb]");
  await page.reload({ waitUntil: "domcontentloaded" });  // begins at the top
  await page.waitForSelector("article[aria-label=kerb]");
  const met = [];
  for (let i = 0; i < 12; i++) {
    await page.keyboard.press("Tab");
    met.push(await page.evaluate(() => (document.activeElement.getAttribute("aria-label") || document.activeElement.textContent).trim()));
  }
  assert.equal(met[0], "To the content");
  assert.deepEqual(met.slice(1, 7), ["Live", "Sightings", "Limits", "Zones", "Settings", "Station"]);
  assert.ok(met.includes("kerb: larger, or smaller"), met.join(", "));
}));

test("the first page is small", async () => {
  const context = await browser.newContext();
  const page = await context.newPage();
  const devtools = await context.newCDPSession(page);
  let bytes = 0;
  await devtools.send("Network.enable");
  const pictures = new Set();
  devtools.on("Network.requestWillBeSent", (e) => { if (/\/picture\//.test(e.request.url)) pictures.add(e.requestId); });
  devtools.on("Network.loadingFinished", (e) => { if (!pictures.has(e.requestId)) bytes += e.encodedDataLength; });
  await page.goto(station.url, { waitUntil: "domcontentloaded" });
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "ann", "frogspawn");
  await page.waitForSelector("article[aria-label=kerb]");
  await page.waitForTimeout(1500);
  assert.ok(bytes > 20000 && bytes < 200000, bytes + " bytes");
  await context.close();
});
