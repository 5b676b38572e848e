// What people open the page for, in as few taps as was promised; its words in each language; what does not move.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { readFileSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { HERE, openBrowser, openPage, startStation, until } from "./station.mjs";

const FILES = join(HERE, "../../src/page/files");
const PHONE = { viewport: { width: 390, height: 844 }, hasTouch: true, isMobile: true };
let station, browser;

const ask = async (path, body) => (await fetch(station.url + path, body && { method: "POST", headers: { "X-Tawny-Change": "local" }, body: JSON.stringify(body) })).json();
const sightings = async () => (await ask("api/sightings")).sightings;
// One more of mere, once nothing goes on there.
const sight = async () => { if ((await ask("api/status")).cameras[1].state === "armed") await ask("api/order", { do: "trigger", camera: "mere" }); return false; };
const over = async () => (await sightings()).filter((s) => s.end && s.stills > 0);

before(async () => {
  browser = await openBrowser();
  station = await startStation();
  await until("its cameras deliver", async () => (await ask("api/status")).cameras.every((c) => c.fps > 0));
  await ask("api/order", { do: "trigger", camera: "mere" });
  await until("a sighting is over, with its still", async () => (await over()).length > 0, 120);
  const [first] = await over();
  await ask("api/sightings/" + first.number, { name: "Bufo bufo" });  // names of late are offered
  await until("another", async () => (await over()).filter((s) => !s.name).length > 0 || sight(), 120);
}, { timeout: 240000 });

after(async () => {
  await browser.close();
  await station.stop();
});

/** A page whose taps are counted. */
async function on(options, work) {
  const page = await openPage(browser, station.url, options);
  let taps = 0;
  const tap = async (what) => { await (typeof what === "string" ? page.locator(what) : what).click(); taps++; };
  try { await work(page, tap, () => taps); assert.deepEqual(page.wrong, []); }
  finally { await page.unrouteAll({ behavior: "ignoreErrors" }); await page.context().close(); }
}

for (const [where, options] of [["at a desk", {}], ["on a phone", PHONE]])
  test("from the start to a named, starred sighting in four taps: " + where, () => on(options, async (page, tap, taps) => {
    const known = await over(), nameless = known.find((s) => !s.name);
    await page.waitForSelector(".plate[data-id='" + nameless.number + "']");
    await tap(".plate[data-id='" + nameless.number + "'] a.frame");
    await page.waitForSelector("#detail[data-number='" + nameless.number + "']");
    await tap("#star");
    await until("it has a star", async () => (await ask("api/sightings/" + nameless.number)).starred);
    await tap(page.locator("#detail .chips button").first());
    await until("it has a name", async () => (await ask("api/sightings/" + nameless.number)).name === "Bufo bufo");
    assert.ok(taps() <= 4, taps() + " taps");
    await ask("api/sightings/" + nameless.number, { star: false });
    await ask("api/sightings/" + nameless.number, { name: "" });
  }));

test("from \u201cit begins too often\u201d to written settings in six taps", () => on(PHONE, async (page, tap, taps) => {
  await page.waitForSelector("#view-came:not([hidden])");
  await tap("#foot [data-view=right]");
  await tap("#right-camera [data-value=mere]");
  await page.waitForSelector("#marks-row .mark-card");
  await tap(page.locator("#marks-row").getByRole("button", { name: "Nothing" }).first());
  await until("a way is proposed", async () => await page.locator(".way.first").count() === 1 && await page.getAttribute("#ways-cards", "aria-busy") === null);
  const before = station.settings();
  await tap(page.locator(".way.first").getByRole("button", { name: /^Use this/ }));
  await page.waitForSelector("dialog .lines ins");
  assert.equal(station.settings(), before);
  await tap("#dialog-yes");
  await until("it is written", () => station.settings() !== before);
  assert.match(station.settings(), /\[camera mere\][^[]*\n(start_at|rest|sensitivity|hours) = /);
  assert.ok(taps() <= 6, taps() + " taps");
}));

test("what a way would have changed is what limits would have made", () => on({}, async (page) => {
  await page.goto(station.url + "#right/often/mere");
  const found = await until("ways", () => page.evaluate(async () => {
    const { find } = await import("/ways.js");
    const now = await find("mere", true);
    return now.all.length > 0 ? now : null;
  }));
  const all = (await sightings()).filter((s) => s.camera === "mere").length;
  assert.ok(found.sightings <= all && found.sightings > 0);
  for (const way of found.all) {
    const numbers = [...way.gone, ...way.stay].map((s) => s.number);
    assert.equal(new Set(numbers).size, numbers.length, "one is gone and stays");
    if (!way.untried) assert.equal(numbers.length, found.sightings, way.title);
  }
}));

test("arming from the phone in two taps, with who and until when", () => on(PHONE, async (page, tap, taps) => {
  await ask("api/order", { do: "disarm", camera: "kerb", for_s: 3600 });
  await page.waitForSelector("#view-came:not([hidden])");
  await tap("#foot [data-view=live]");
  const kerb = page.locator("article[aria-label=kerb]");
  await until("it is said", async () => /^Disarmed, until .*\d.*, by order\./.test(await kerb.locator(".words").innerText()));
  assert.equal(await kerb.getByRole("button", { name: "Disarm\u2026" }).count(), 0, "it is disarmed");
  await tap(kerb.getByRole("button", { name: "Arm now" }));
  assert.equal(taps(), 2);
  await until("it is armed", async () => ["armed", "sighting", "resting"].includes(await kerb.locator(".state").getAttribute("data-state")));
  await kerb.getByRole("button", { name: "By the settings" }).click();
  await until("no order holds", async () => (await ask("api/status")).cameras[0].arming === "armed");
}));

test("a lost camera is told of at the head, with the way to mend it", () => on({}, async (page) => {
  await page.route("**/api/status", async (route) => {
    const answer = await route.fetch(), body = await answer.json();
    Object.assign(body.cameras[1], { state: "lost", lost: new Date(Date.now() - 3600e3).toISOString(), lost_why: "nobody answers" });
    await route.fulfill({ response: answer, json: body });
  });
  await until("the head says so", async () => await page.locator("#well").innerText() === "1 thing");
  assert.match(await page.locator("#came-well").innerText(), /mere has sent no picture since .*nobody answers/s);
  await page.click("#well");
  await page.waitForSelector("#view-station:not([hidden])");
  await until("it is told there", async () => await page.locator("#station-title").innerText() === "1 thing needs somebody");
  await page.locator("#amiss").getByRole("button", { name: "To its settings" }).click();
  await until("its settings", async () => await page.locator("#form-title").innerText() === "Camera mere");
}));

test("what is new to an account is marked until it has looked", async () => {
  const now = Date.now();
  await on({}, async (page) => {
    await page.route("**/api/visit", (route) => route.fulfill({ json: { since: now - 60e3 } }));
    await page.route(/api\/sightings\?from/, async (route) => {
      const answer = await route.fetch(), body = await answer.json();
      body.sightings.forEach((s, i) => { s.start = new Date(now - (i === 0 ? 120e3 : 30e3)).toISOString(); s.mark = "none"; });
      await route.fulfill({ response: answer, json: body });
    });
    await page.goto(station.url + "#came");
    await page.reload({ waitUntil: "domcontentloaded" });
    const n = (await sightings()).length;
    await until("they are counted", async () => new RegExp("^" + (n - 1) + " (is|are) new to you$").test(await page.locator("#came-new").innerText()));
    assert.equal(await page.locator(".plate .new").count(), n - 1);
    assert.equal(await page.locator("#came-since").count(), 1);
  });
});

test("the strip of a day zooms by wheel and keys, to minutes", () => on({}, async (page) => {
  await page.goto(station.url + "#sightings");
  await page.waitForSelector("#strips .band");
  const width = () => page.locator("#strips .band").first().evaluate((b) => Number(b.getAttribute("width")));
  const whole = await width(), box = await page.locator("#strips .strip").first().boundingBox();
  const band = await page.locator("#strips .band").first().evaluate((b) => { const r = b.getBoundingClientRect(); return r.left + r.width / 2; });
  await page.mouse.move(band, box.y + 10);
  for (let i = 0; i < 30; i++) await page.mouse.wheel(0, -100);
  await until("it is wider", async () => await width() > 10 * whole);
  assert.match(await page.locator("#zoom-said").innerText(), /\d:\d\d.* to .*\d:\d\d/);
  assert.equal(await page.locator("#strips .overview").isVisible(), true);
  await page.locator("#strips").focus();
  await page.keyboard.press("0");
  await until("the whole day", async () => await width() === whole);
  await page.keyboard.press("+");
  await until("half of it", async () => await page.locator("#zoom-said").innerText() !== "");
}));

test("a running sighting shows its newest frame, and j and k step through", () => on({}, async (page) => {
  await ask("api/order", { do: "trigger", camera: "mere" });
  await page.goto(station.url + "#sightings");
  await until("one runs", async () => /running/.test(await page.locator("#list").innerText()));
  const image = page.locator("#list li:has(.st) img").first();
  await until("with a picture", () => image.evaluate((i) => i.complete && i.naturalWidth > 0));
  const first = await page.getAttribute("#list .row-open[aria-current=true]", "data-id");
  await page.keyboard.press("j");
  await until("the next", async () => await page.getAttribute("#list .row-open[aria-current=true]", "data-id") !== first);
  await page.keyboard.press("k");
  await until("the first again", async () => await page.getAttribute("#list .row-open[aria-current=true]", "data-id") === first);
}));

// What moves from so many ms on, unless somebody pressed something: in window.moved.
const watchMoves = (page, from) => page.addInitScript((from) => {
  window.moved = 0;
  new PerformanceObserver((list) => { for (const e of list.getEntries()) if (e.startTime > from && !e.hadRecentInput) window.moved += e.value; }).observe({ type: "layout-shift", buffered: true });
}, from);

test("nothing moves once the first second is over", () => on({}, async (page) => {
  await watchMoves(page, 1000);
  for (const hash of ["came", "live", "sightings", "station"]) {
    await page.goto("about:blank");
    await page.goto(station.url + "#" + hash);
    await page.waitForTimeout(4000);
    const moved = await page.evaluate(() => window.moved);
    assert.ok(moved < 0.02, hash + " moved by " + moved);
  }
}));

test("where what came is slow, its place is kept: nothing moves when it comes", () => on({}, async (page) => {
  const now = Date.now();
  await page.route(/api\/nights/, (route) => route.fulfill({ json: { nights: [[now - 10 * 3600e3, now - 2 * 3600e3]] } }));
  await page.route(/api\/sightings\?from/, async (route) => { await new Promise((r) => setTimeout(r, 2500)); await route.continue(); });
  await watchMoves(page, 0);
  await page.goto("about:blank");
  await page.goto(station.url);
  await page.waitForSelector("#came-seen .ph");
  await page.waitForSelector("#came-seen .plate a");
  await page.waitForTimeout(1500);
  assert.ok(await page.evaluate(() => window.moved) < 0.02, "moved by " + await page.evaluate(() => window.moved));
  assert.equal(await page.locator(".sky .night").count(), 1, "the night is where it was");
}));

// As a station with a long life would answer: the newest first, as many as are asked for.
const MANY = 450;
function longLife(url, now) {
  const until = Math.min(Number(new URL(url).searchParams.get("until")), now + 1), most = Number(new URL(url).searchParams.get("most"));
  const start = (i) => now - i * 60e3, first = Math.max(0, Math.ceil((now - until + 1) / 60e3));
  return { sightings: Array.from({ length: Math.max(0, Math.min(most, MANY - first)) }, (_, k) => first + k).reverse()
    .map((i) => ({ number: 100000 - i, camera: "mere", start: new Date(start(i)).toISOString(), end: new Date(start(i) + 5000).toISOString(), peak: 1, stills: 0, clips: 0, bytes: 0, starred: false, mark: "none" })) };
}

test("a long list is filled where it is looked at, to its end, though an answer is lost", () => on({}, async (page) => {
  const now = Date.now();
  let lost = 0;
  await page.route(/api\/sightings\?most=/, async (route) => {
    if (Number(new URL(route.request().url()).searchParams.get("until")) < now - 150 * 60e3 && lost++ === 0) return route.abort();
    return route.fulfill({ json: longLife(route.request().url(), now) });
  });
  await page.click("#tab-sightings");
  await page.click("#search");
  await page.click("#search-form button[type=submit]");
  const rows = () => page.locator("#list > li").count(), full = () => page.locator("#list > li:not(:empty)").count();
  await until("rows", async () => await rows() >= 100);
  const height = await page.locator("#list > li").first().evaluate((e) => e.offsetHeight);
  await until("the end", async () => { await page.locator("#list").evaluate((e) => e.scrollTo(0, e.scrollHeight)); const n = await rows(); if (n !== MANY) throw new Error(n + " rows, " + lost + " answers since"); return true; });
  assert.ok(lost > 1, "an answer was lost");
  await until("few rows have content", async () => { const n = await full(); if (n >= 60) throw new Error(n + " have"); return true; });
  await page.waitForFunction(() => { const e = document.getElementById("list"), l = e.lastElementChild; e.scrollTo(0, e.scrollHeight); return l.querySelector(".row-open") && l.querySelector(".frame > *"); });
  await until("the first row is empty again", async () => await page.locator("#list > li:first-child:empty").count() === 1);
  assert.equal(await page.locator("#list > li").first().evaluate((e) => e.offsetHeight), height, "an empty row is as high");
  assert.equal(await page.locator("#list > li:last-child .row-open").getAttribute("data-id"), String(100000 - MANY + 1));
}));

test("what marks tell is learnt beside the station, told, and can be stopped", () => on({}, async (page) => {
  const mere = async () => (await over()).filter((s) => s.camera === "mere");
  await until("five of them", async () => (await mere()).length >= 5 || sight(), 200);
  const all = await mere();
  for (const [i, s] of all.slice(0, 5).entries()) await ask("api/sightings/" + s.number, { mark: i < 3 ? "right" : "nothing" });
  await page.goto(station.url + "#right/often/mere");
  await page.click("#learn");
  await page.click("#learn-stop");
  await until("it was stopped", async () => /stopped/.test(await page.locator("#learnt").innerText()));
  // How long it takes to learn depends on the machine; why nothing can be learnt is told at once.
  await ask("api/proposals", { camera: "kerb" });
  await until("it is over", async () => (await ask("api/proposals")).state !== "running");
  const told = await ask("api/proposals");
  assert.equal(told.state, "failed");
  assert.match(told.why, /^no sighting of kerb is marked yet/);
  for (const s of all.slice(0, 5)) await ask("api/sightings/" + s.number, { mark: "none" });
}));

// ---- words

const scripts = () => readdirSync(FILES).filter((f) => /\.(js|html)$/.test(f) && !["texts.js", "worker.js"].includes(f)).map((f) => [f, readFileSync(join(FILES, f), "utf8")]);
const table = async () => (await import(join(FILES, "texts.js"))).TEXTS;
const MADE = /^(set|help|group|section|state|took|cell|kind|item|want|word|zone|zone-kind|at|hours)\./;  // names are put together

test("each text is there in each language, with the same values, and nothing is left over", async () => {
  const texts = await table(), used = new Set(), all = scripts().map(([, s]) => s).join("\n");
  for (const [file, s] of scripts())
    for (const m of s.matchAll(/\bt\("([^"]+)"\s*[,)]|data-t(?:-label|-hint)?="([^"]+)"/g)) {
      const key = m[1] || m[2];
      assert.ok(texts[key], file + " asks for " + key);
      used.add(key);
    }
  const values = (text) => [...new Set([...text.matchAll(/\{(\w+)\}/g)].map((m) => m[1]))].sort().join(",");
  for (const [key, row] of Object.entries(texts)) {
    assert.equal(row.length, 2, key);
    const [english, german] = row;
    if (!/^help\./.test(key)) assert.ok(english && german, key + " has a hole");
    else assert.ok(!english && german, key);
    if (english && key !== "group.Station" && !/^help/.test(key) && !/\{camera\}, \{station\}/.test(german)) assert.equal(values(german), values(english), key);
    assert.ok(used.has(key) || MADE.test(key) || all.includes('"' + key + '"'), key + " is used nowhere");
  }
});

test("each setting has a label, in English and German, and German help", async () => {
  const texts = await table(), reference = readFileSync(join(HERE, "../../docs/settings.md"), "utf8");
  const groups = reference.split(/^## /m).slice(1), heads = { Zone: "zone", Hook: "hook", Sensor: "sensor", Destination: "destination", Station: "station", Page: "station" };
  let keys = 0;
  for (const part of groups) {
    const group = part.slice(0, part.indexOf("\n"));
    for (const [, key] of part.matchAll(/^\| `([a-z_]+)` \|/gm)) {
      const own = (heads[group] || "camera") + "." + key;
      assert.ok(texts["set." + own] || texts["set." + key], own + " has no label");
      assert.ok(texts["help." + own] || texts["help." + key], own + " has no German help");
      assert.ok(texts["group." + group], group);
      keys++;
    }
  }
  assert.ok(keys > 130, keys + " keys");
});

test("German is chosen by the browser, and fits the phone", () => on({ ...PHONE, locale: "de-DE" }, async (page) => {
  await page.waitForSelector("#view-came:not([hidden])");
  assert.equal(await page.getAttribute("html", "lang"), "de");
  for (const hash of ["came", "live", "sightings", "right/often/mere", "right/misses/mere", "right/limits/mere", "right/zones/mere", "settings", "station"]) {
    await page.evaluate((h) => { location.hash = h; }, hash);
    await page.waitForTimeout(500);
    const text = await page.evaluate(() => document.body.innerText);
    assert.doesNotMatch(text, /\b(Settings|Sightings|Cancel|Armed|Starred|built-in|Log in)\b/, hash);
    const cut = await page.evaluate(() => [...document.querySelectorAll("main .btn, .foot a, .foot button, .m, h1:not(.visually-hidden)")].filter((e) => e.offsetParent && e.scrollWidth > e.clientWidth + 1).map((e) => e.textContent.trim()));
    assert.deepEqual(cut, [], hash + ": words are cut");
    assert.ok(await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth), hash + " is too wide");
  }
}));

test("hours are as the reader is used to them", async () => {
  await on({ locale: "en-US" }, async (page) => { await until("12 hours", async () => /\b(AM|PM)\b/.test(await page.locator("#came-sky, #came-seen").allInnerTexts().then((a) => a.join()))); });
  await on({ locale: "en-GB" }, async (page) => {
    await page.waitForSelector(".plate .t");
    assert.match(await page.locator(".plate .t").first().innerText(), /^\d\d:\d\d$/);
  });
});
