// Who may what, what a screen reader finds, and how much goes over the wire.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { goTo, openBrowser, openPage, startStation, until } from "./station.mjs";

const axe = readFileSync(createRequire(import.meta.url).resolve("axe-core/axe.min.js"), "utf8");
const VIEWS = ["came", "live", "large", "sightings", "often", "misses", "limits", "zones", "settings", "station"];
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
  await until("it is refused", async () => /Name or password is wrong/.test(await page.locator("#login-wrong").innerText()));
  await logIn(page, "bob", "tadpoles");
  await page.waitForSelector("#view-came:not([hidden])");
  for (const v of ["right", "settings"]) assert.equal(await page.locator("#tab-" + v).isVisible(), false);
  await goTo(page, "live");
  await page.waitForSelector("article[aria-label=kerb]");
  assert.equal(await page.getByRole("button", { name: "Disarm" }).count(), 0);
  await page.goto(station.url + "#settings", { waitUntil: "domcontentloaded" });
  await page.waitForSelector("#view-came:not([hidden])");
  const refused = await page.evaluate(async () => {
    const me = await (await fetch("/api/me")).json();
    const order = await fetch("/api/order", { method: "POST", body: "{\"do\":\"disarm\"}", headers: { "X-Tawny-Change": me.change } });
    return [order.status, (await fetch("/api/settings")).status, (await fetch("/api/settings/file")).status];
  });
  assert.deepEqual(refused, [403, 403, 403]);
  await page.click("#logout");
  await page.waitForSelector("#login:not([hidden])");
}));

async function faults(page, where) {
  const found = await page.evaluate(async () => {
    const result = await window.axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
    return result.violations.map((v) => v.id + ": " + v.nodes.slice(0, 3).map((n) => n.target.join(" ") + " " + (n.any[0] || n.all[0] || n.none[0] || {}).message).join(" | "));
  });
  assert.deepEqual(found, [], where);
  let wide = "x";
  for (let i = 0; i < 4 && wide; i++) {  // what is still being drawn may be wider for a moment
    if (i > 0) await page.waitForTimeout(500);
    wide = await page.evaluate(() => document.documentElement.scrollWidth <= document.documentElement.clientWidth ? "" : [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > document.documentElement.clientWidth + 1).map((e) => e.tagName + "#" + e.id + "." + e.className + " " + e.textContent.slice(0, 60)).slice(-4).join("; "));
  }
  assert.equal(wide, "", where + " is wider than the screen");
}

// On a phone the ways to views are at the foot.
async function go(page, view) {
  const name = { often: "right/often/kerb", misses: "right/misses/kerb", limits: "right/limits/kerb", zones: "right/zones/kerb", large: "live/kerb" }[view] || view;
  await page.evaluate((hash) => { location.hash = hash; }, name);
  await page.waitForTimeout(450);
}

async function tryView(page, view, where) {
  await go(page, view);
  if (view === "large") {
    for (const b of ["Overlay|Markierung", "Focus|Sch\u00e4rfe"]) await page.locator("article[aria-label=kerb]").getByRole("button", { name: new RegExp("^(" + b + ")$") }).click();
    await page.waitForTimeout(800);
  }
  if (view === "zones") { await page.click("#zones-new"); await page.click("#zones-new"); }
  if (view === "settings") { await page.click("#add-open"); await page.click("#depth [data-value=all]"); }
  await faults(page, where + ", " + view);
}

// The accessibility checker is put in by the browser itself: the page allows no code but its own.
for (const [width, colorScheme] of [[390, "light"], [390, "dark"], [768, "light"], [1280, "light"], [1280, "dark"], [1920, "dark"]])
    test("nothing stands in the way of who uses other means than sight: " + width + ", " + colorScheme, () =>
      on({ bypassCSP: true, viewport: { width, height: width < 500 ? 844 : 900 }, colorScheme, hasTouch: width < 500, isMobile: width < 500, locale: colorScheme === "light" ? "en-GB" : "de-DE" }, async (page) => {
        await page.addScriptTag({ content: axe });
        await page.waitForSelector("#login:not([hidden])");
        await faults(page, "login");
        await logIn(page, "ann", "frogspawn");
        await page.waitForSelector("#view-came:not([hidden])");
        for (const v of VIEWS) await tryView(page, v, width + " " + colorScheme);
      }));

test("an account of one camera sees that one, and may do with it what it may", () => on({}, async (page) => {
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "mia", "froglets");
  await page.waitForSelector("#view-came:not([hidden])");
  await goTo(page, "live");
  await page.waitForSelector("article[aria-label=mere]");
  assert.equal(await page.locator("article").count(), 1);
  assert.equal(await page.getAttribute("#who", "title"), "mia (can change): mere");
  for (const v of ["right", "settings", "station"]) assert.equal(await page.locator("#tab-" + v).isVisible(), false);
  await page.locator("article[aria-label=mere]").getByRole("button", { name: "Start a sighting" }).click();
  await goTo(page, "sightings");
  await until("its sighting is there", async () => /mere/.test(await page.locator("#list").innerText()));
  assert.doesNotMatch(await page.locator("#list").innerText(), /kerb/);
  assert.deepEqual(await page.locator(".strip-name").allInnerTexts(), ["mere"]);
}));

test("all of it is reached by keys alone", () => on({}, async (page) => {
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "ann", "frogspawn");
  await page.waitForSelector("#view-came:not([hidden])");
  await goTo(page, "live");
  await page.waitForSelector("article[aria-label=kerb]");
  await page.reload({ waitUntil: "domcontentloaded" });  // begins at the top
  await page.waitForSelector("article[aria-label=kerb]");
  const met = [];
  for (let i = 0; i < 20; i++) {
    await page.keyboard.press("Tab");
    met.push(await page.evaluate(() => (document.activeElement.getAttribute("aria-label") || document.activeElement.textContent).trim()));
  }
  assert.equal(met[0], "To the content");
  assert.deepEqual(met.slice(2, 8), ["What came", "Live", "Sightings", "Set right", "Settings", "Station"]);
  // A sighting that runs cannot be started: what is always there.
  for (const name of ["kerb: larger, or smaller", "Take a still", "Overlay"]) assert.ok(met.includes(name), met.join(", "));
}));

test("the first page is small", async () => {
  const context = await browser.newContext();
  const page = await context.newPage();
  const devtools = await context.newCDPSession(page);
  let bytes = 0;
  await devtools.send("Network.enable");
  const pictures = new Set();
  devtools.on("Network.requestWillBeSent", (e) => { if (/\/(picture|api\/thumbs)\//.test(e.request.url)) pictures.add(e.requestId); });
  devtools.on("Network.loadingFinished", (e) => { if (!pictures.has(e.requestId)) bytes += e.encodedDataLength; });
  await page.goto(station.url, { waitUntil: "domcontentloaded" });
  await page.waitForSelector("#login:not([hidden])");
  await logIn(page, "ann", "frogspawn");
  await page.waitForSelector("#view-came:not([hidden])");
  await page.waitForTimeout(1500);
  assert.ok(bytes > 20000 && bytes < 120000, bytes + " bytes");
  await context.close();
});
