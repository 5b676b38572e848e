// What somebody does on the page, in a browser, before a station on the simulated port.
import assert from "node:assert/strict";
import { spawnSync } from "node:child_process";
import { after, before, test } from "node:test";
import { existsSync, readFileSync, readdirSync } from "node:fs";
import { join } from "node:path";
import { goTo, openBrowser, openPage, startStation, until } from "./station.mjs";

let station, browser, page;

before(async () => {
  browser = await openBrowser();
  station = await startStation();
  page = await openPage(browser, station.url);
}, { timeout: 120000 });

after(async () => {
  await browser.close();
  await station.stop();
});

const tile = () => page.locator("article[aria-label=kerb]");
const text = (selector) => page.locator(selector).innerText();

test("the live tile moves, and its meter is spoken", async () => {
  await goTo(page, "live");
  await page.waitForSelector("article[aria-label=kerb]");
  assert.equal(await page.locator("article").count(), 2);
  await page.locator("article[aria-label=mere]").getByRole("button", { name: "Start a sighting" }).click();  // for its clip, later on
  const picture = () => tile().locator("canvas").first().evaluate((c) => c.width > 300 ? c.toDataURL() : "");
  const first = await until("a picture", picture);
  await until("another picture", async () => (await picture()) !== first);
  const meter = tile().locator("[role=meter]");
  assert.equal(await meter.getAttribute("aria-label"), "Level of kerb");
  assert.match(await meter.getAttribute("aria-valuetext"), /%, a sighting begins at 0\.06\u00a0% and goes on at 0\.05\u00a0%/);
});

test("focusing tells a figure and its best", async () => {
  await tile().getByRole("button", { name: "Focus" }).click();
  const said = await until("a sharpness", async () => (await tile().locator(".focus .lead").innerText()).match(/([\d.]+)\s+best ([\d.]+)/));
  assert.ok(Number(said[1]) > 0 && Number(said[2]) >= Number(said[1]));
  assert.ok(await tile().locator(".glass").evaluate((c) => c.getContext("2d").getImageData(0, 0, c.width, c.height).data.some((v) => v > 30 && v < 250)));
  await tile().getByRole("button", { name: "Focus" }).click();
});

test("what counts is drawn over the picture, and said", async () => {
  await tile().getByRole("button", { name: "Overlay" }).click();
  await until("a sighting", async () => (await tile().locator(".state").getAttribute("data-state")) === "sighting", 120);
  await until("cells and a blob", async () => await tile().locator(".overlay path.cells").count() > 0 && await tile().locator(".overlay rect.blob").count() > 0);
  await until("it is said", async () => /% counts.*[1-9] subjects?\./.test(await tile().locator(".said").innerText()));
  await until("it is explained", async () => /counts as motion/.test(await tile().locator(".legend").innerText()));
  await tile().getByRole("button", { name: "Overlay" }).click();
});

test("a zone is drawn over what moves, and activity drops", async () => {
  await goTo(page, "zones");
  await page.click("#right-camera [data-value=kerb]");
  await until("motion in the last minute", async () => Number((await text("#zones-said")).match(/peak ([\d.]+)\s%/)[1]) > 0.3);
  await page.click("#zones-new");
  const box = await page.locator("#zones-shapes").boundingBox();
  for (const [x, y] of [[0.004, 0.3], [0.996, 0.3], [0.996, 0.98], [0.004, 0.98]]) await page.mouse.click(box.x + x * box.width, box.y + y * box.height);
  await page.click("#zones-new");
  await until("it drops", async () => Number((await text("#zones-said")).match(/peak ([\d.]+)\s%/)[1]) === 0);
  assert.ok(!station.settings().includes("[zone"));
  await page.fill("#zone-name", "lane");
  await page.press("#zone-name", "Tab");
  const corner = page.locator(".corner[data-corner='0']");
  await corner.focus();
  await corner.press("ArrowRight");
  await page.click("#zones-save");
  await page.click("#dialog-yes");
  await until("it is written", () => /\[zone kerb\/lane\]\nkind = ignored\narea = 1\.4,30 /.test(station.settings()));
  assert.ok(station.settings().includes("start_at=0.06 %    # after the storm"));
});

test("a zone is taken out again", async () => {
  await until("the station has read it", async () => (await (await page.request.get(station.url + "api/zones/kerb")).json()).zones.length === 1);
  await page.reload({ waitUntil: "domcontentloaded" });
  await page.waitForSelector("#zones-list button");
  await page.click("#right-camera [data-value=kerb]");
  await page.click("#zones-list button");
  await page.click("#zone-delete");
  await page.click("#zones-save");
  await page.click("#dialog-yes");
  await until("it is gone", () => !station.settings().includes("[zone"));
});

// The mean brightness of a part of a live picture, in shares of it.
const brightness = (left, top, width, height) => page.evaluate(async ([x, y, w, h]) => {
  const answer = await fetch("/picture/kerb?" + Math.random());
  const image = await createImageBitmap(await answer.blob());
  const canvas = new OffscreenCanvas(image.width, image.height), pen = canvas.getContext("2d");
  pen.drawImage(image, 0, 0);
  const px = pen.getImageData(x * image.width, y * image.height, w * image.width, h * image.height).data;
  let sum = 0;
  for (let i = 0; i < px.length; i += 4) sum += px[i] + px[i + 1] + px[i + 2];
  return sum / (px.length / 4 * 3);
}, [left, top, width, height]);

test("what a private zone hides is black in the live picture", async () => {
  assert.ok(await brightness(0.55, 0.1, 0.3, 0.3) > 10);
  const change = (key, value) => page.request.post(station.url + "api/settings", { headers: { "X-Tawny-Change": "local" }, data: { write: true, changes: key === null ? [{ head: "zone", name: "kerb/window", key: null, value: null }] :
    [{ head: "zone", name: "kerb/window", key: "kind", value: "private" }, { head: "zone", name: "kerb/window", key: "area", value }] } });
  assert.equal((await change("area", "50,5 90,5 90,45 50,45")).status(), 200);
  await until("it is black", async () => await brightness(0.55, 0.1, 0.3, 0.3) < 1);
  assert.ok(await brightness(0.1, 0.6, 0.3, 0.3) > 10);
  await goTo(page, "zones");
  await page.click("#right-camera [data-value=kerb]");
  await until("the page says what it is", async () => /window, private/.test(await text("#zones-list")));
  assert.equal((await change(null)).status(), 200);
  await until("it is seen again", async () => await brightness(0.55, 0.1, 0.3, 0.3) > 10);
});

test("a limit is dragged, the count changes, and the file is written with its comments", async () => {
  await goTo(page, "limits");
  await page.click("#right-camera [data-value=kerb]");
  const made = async () => Number((await text("#limits-made")).match(/^(\d+) sighting/)[1]);
  const set = await until("it was seen", async () => await made() > 0 && made());
  const drag = async () => {  // the axis grows with what is seen: the line may have gone on by the time that it is touched
    const box = await page.locator("#chart").boundingBox();
    const y = await page.evaluate(() => window.Chart.getChart("chart").scales.y.getPixelForValue(Math.sqrt(0.06 / 100)));
    await page.mouse.move(box.x + box.width / 2, box.y + y - 2);
    await page.mouse.down();
    await page.mouse.move(box.x + box.width / 2, box.y + 12, { steps: 6 });
    await page.mouse.up();
    return await page.inputValue("#limits-start") !== "0.06";
  };
  await until("it is dragged", drag);
  await until("fewer of them", async () => await made() < set);
  const start = await page.inputValue("#limits-start");
  assert.ok(Number(start) > 0.5);
  await page.click("#limits-use");
  await page.click("#dialog-yes");
  await until("it is written", () => station.settings().includes("\nstart_at= " + start + " %    # after the storm\n"));
  assert.ok(station.settings().startsWith("# Hollin Lane toad crossing\n[station]\nname = hollin      # ours\n"));
  assert.ok(readFileSync(station.file + ".old", "utf8").includes("start_at=0.06 %    # after the storm"));
  await until("the station holds it", async () => (await (await page.request.get(station.url + "api/status")).json()).cameras[0].start_at === Number(start));
});

test("a value of the form is shown as a line before it is written; a wrong one never is", async () => {
  await goTo(page, "settings");
  await page.selectOption("#form-sections", "camera kerb");
  await page.fill("#form-find", "post_event");
  await page.fill("#set-post_event", "soon");
  await page.click("#form-save");
  await until("it is refused", async () => /duration/.test(await page.locator(".setting[data-key=post_event] .wrong").innerText()));
  assert.equal(await page.getAttribute("#set-post_event", "aria-invalid"), "true");
  assert.match(await text("#form-said"), /1 change, 1 mistake/);
  assert.ok(!station.settings().includes("soon"));
  await page.fill("#set-post_event", "4");
  await page.click("#form-save");
  assert.match(await text("dialog .lines"), /station\.ini:\d+ post_event = 4 s/);
  await page.click("#dialog-no");
  assert.ok(!station.settings().includes("post_event = 4 s"));
  await page.click("#form-save");
  await page.click("#dialog-yes");
  await until("it is written into the camera's section", () => /\[camera kerb\][^[]*\npost_event = 4 s\n/.test(station.settings()));
  await until("its origin is told", async () => /station\.ini:\d+/.test(await page.locator(".setting[data-key=post_event] .origin").innerText()));
});

test("the section that was chosen last is shown, though an earlier one is answered later", async () => {
  await goTo(page, "settings");
  const late = /api\/settings\?head=camera&name=kerb$/;
  let answered = false;
  await page.route(late, async (route) => { await new Promise((r) => setTimeout(r, 1500)); await route.continue(); answered = true; });
  await page.selectOption("#form-sections", "camera mere");
  await until("the one", async () => await text("#form-title") === "Camera mere");
  await page.selectOption("#form-sections", "camera kerb");
  await page.selectOption("#form-sections", "station ");
  await until("the other", async () => /^Station/.test(await text("#form-title")));
  await until("the first is answered", () => answered);
  await page.waitForTimeout(500);
  assert.match(await text("#form-title"), /^Station/);
  assert.equal(await page.inputValue("#form-sections"), "station ");
  await page.unroute(late);
});

test("what holds in the dark or within hours alone is set, said, and taken out", async () => {
  await goTo(page, "settings");
  await page.selectOption("#form-sections", "camera kerb");
  await page.fill("#times-when", "dim");
  await page.click("#form-times button");
  await until("it is refused", async () => /no such section/.test(await text("#notice")));
  await page.fill("#times-when", "light");
  await page.click("#form-times button");
  await until("it is open", async () => await text("#form-title") === "Camera kerb, when light");
  assert.equal(await text("#form-holds"), "It does not hold now.");
  assert.equal(await page.locator(".setting[data-key=source]").count(), 0);
  await page.fill("#form-find", "");
  assert.equal(await page.inputValue("#set-post_event"), "");
  await page.fill("#set-post_event", "5");
  await page.selectOption("#set-clips", "no");
  await page.click("#form-save");
  assert.match(await text("dialog .lines"), /\[camera kerb when light\]/);
  await page.click("#dialog-yes");
  await until("it is written", () => station.settings().includes("\n[camera kerb when light]\npost_event = 5 s\nclips = no\n"));
  await until("it holds, and that is said", async () => {
    await page.reload({ waitUntil: "domcontentloaded" });
    await page.selectOption("#form-sections", "camera kerb when light");
    return await text("#form-holds") === "It holds now." && await page.inputValue("#set-post_event") === "5";
  });
  await goTo(page, "station");
  await until("the station says so, too", async () => /settings for light/.test(await text("#busy")) && /%, not dark/.test(await text("#busy")));
  await goTo(page, "settings");
  await page.selectOption("#form-sections", "camera kerb when light");
  await page.click("#form-remove");
  await page.click("#dialog-yes");
  await until("it is gone", () => !station.settings().includes("when light"));
});

test("all settings are downloaded, and restored", async () => {
  const [download] = await Promise.all([page.waitForEvent("download"), page.click("text=Download all")]);
  const saved = readFileSync(await download.path(), "utf8");
  assert.equal(saved, station.settings());
  await page.setInputFiles("#form-restore", { name: "station.ini", mimeType: "text/plain", buffer: Buffer.from(saved.replace("name = hollin ", "name = lane ")) });
  assert.match(await text("dialog"), /holds from its next start on/);
  await page.click("#dialog-yes");
  await until("it is restored", () => station.settings().includes("name = lane "));
});

test("a clip is played in place, and stepped through", async () => {
  await goTo(page, "sightings");
  await page.click("#camera [data-value=mere]");
  await until("a clip", async () => {
    await page.locator("#list .row-open").last().click();
    return await page.locator("#detail video").count() === 1;
  }, 120);
  const video = page.locator("#detail video");
  await until("it can be played", () => video.evaluate((v) => v.readyState >= 2 && v.videoWidth === 320));
  await page.keyboard.press("p");
  await until("it plays", () => video.evaluate((v) => v.currentTime > 0.3));
  if (!await video.evaluate((v) => v.paused)) await page.keyboard.press("p");  // a short one may be over
  const at = await until("it stands", () => video.evaluate((v) => v.paused && v.currentTime));
  await page.keyboard.press(".");
  await until("a frame on", () => video.evaluate((v, t) => v.currentTime > t && v.currentTime < t + 0.5, at));
});

test("a sighting is starred, sent again, deleted, and that undone", async () => {
  const rows = () => page.locator("#list .row-open").count();
  await page.locator("#detail video").evaluate((v) => { v.dataset.same = "yes"; });
  await page.click("#star");
  await until("it is starred", async () => await page.getAttribute("#list li:has([aria-current=true]) .ic", "aria-pressed") === "true");
  assert.equal(await page.locator("#detail video").getAttribute("data-same"), "yes", "the clip was begun anew");
  await page.click("#send-again");
  await until("it is sent", () => readdirSync(join(station.folder, "shed"), { recursive: true }).some((f) => String(f).endsWith(".jpg")));
  const count = await rows();
  const current = await page.getAttribute("#list .row-open[aria-current=true]", "data-id");
  await page.keyboard.press("x");
  await page.click("#dialog-no");
  assert.equal(await rows(), count);
  await page.keyboard.press("x");
  await page.click("#dialog-yes");
  await until("it is gone", async () => await page.locator("#list .row-open[data-id='" + current + "']").count() === 0);
  await page.click("#undo");
  await until("it is back", async () => await page.locator("#list .row-open[data-id='" + current + "']").count() === 1);
  const files = (await (await page.request.get(station.url + "api/sightings/" + current)).json()).captures.map((c) => c.file);
  assert.ok(files.length > 0 && files.every((f) => existsSync(join(station.folder, "captures", f))));
});

test("a sighting is marked, by button and by key, and that taken back", async () => {
  const mark = async () => { const id = await page.getAttribute("#list .row-open[aria-current=true]", "data-id"); return (await (await page.request.get(station.url + "api/sightings/" + id)).json()).mark; };
  await page.click("#mark-nothing");
  await until("nothing was there", async () => await mark() === "nothing" && /Nothing there/.test(await text("#list .row-open[aria-current=true]")));
  await until("it stays at hand", () => page.evaluate(() => document.activeElement.id === "mark-nothing"));
  await page.keyboard.press("r");
  await until("it is right", async () => await mark() === "right" && await page.getAttribute("#mark-right", "aria-pressed") === "true");
  await page.click("#mark-right");
  await until("nothing is said", async () => await mark() === "none" && await page.getAttribute("#mark-right", "aria-pressed") === "false");
});

test("a sighting is named, by hand and by key, and that is in the list", async () => {
  await page.fill("#named", "Bufo bufo");
  await page.fill("#named-count", "2");
  await page.fill("#named-note", "a pair");
  await page.click("#named-save");
  const number = await page.locator("#detail").getAttribute("data-number");
  const of = async () => (await page.request.get(station.url + "api/sightings/" + number)).json();
  await until("it is named", async () => (await of()).name === "Bufo bufo" && /2\s×\sBufo bufo/.test(await text("#list")));
  assert.deepEqual([(await of()).count, (await of()).note, (await of()).named_by], [2, "a pair", "human"]);
  await until("a key is there", async () => await page.locator("#detail button[data-key='1']").count() === 1);
  await page.fill("#named", "");
  await page.fill("#named-count", "");
  await page.fill("#named-note", "");
  await page.click("#named-save");
  await until("it is taken back", async () => (await of()).name === undefined);
  await page.locator("#detail").click();
  assert.equal(await page.locator("#detail button[data-key='1']").count(), 0);
});

test("something that was missed is said, shown on its strip, and taken back", async () => {
  const all = async () => (await (await page.request.get(station.url + "api/missed")).json()).missed;
  await page.click("#say-missed");
  const camera = await page.inputValue("#missed-camera");
  assert.ok((await text("#list .row-open[aria-current=true] small")).startsWith(camera + " "), "it begins with what is looked at: " + camera);
  const at = await page.inputValue("#missed-at");
  assert.ok(Math.abs(new Date(at) - Date.now()) < 3600e3, at + " is not near");
  await page.click("#dialog-yes");
  const [said] = await until("it is noted", async () => (await all()).length === 1 && all());
  assert.equal(Math.floor(new Date(said.at) / 1000), Math.floor(new Date(at) / 1000));
  await until("it is on its strip", async () => await page.locator("#strips .missed").count() === 1);
  assert.equal(said.camera, camera);
  assert.match(await text("#missed-list"), new RegExp("^" + camera + " \\d\\d:\\d\\d:\\d\\d"));
  await page.locator("#missed-list").getByRole("button", { name: /^Take back/ }).click();
  await until("it is gone", async () => (await all()).length === 0 && await page.locator("#missed").isHidden() && await page.locator("#strips .missed").count() === 0);
});

test("several are chosen, starred, named, saved as one ZIP file, deleted, and that undone", async () => {
  await goTo(page, "live");
  for (let i = 0; i < 2; i++) {  // for more than one of them
    await until("nothing goes on before mere", async () => await page.locator("article[aria-label=mere] .state").getAttribute("data-state") !== "sighting");
    await page.locator("article[aria-label=mere]").getByRole("button", { name: "Start a sighting" }).click();
    await until("it has begun", async () => await page.locator("article[aria-label=mere] .state").getAttribute("data-state") === "sighting");
  }
  await goTo(page, "sightings");
  await page.waitForSelector("#list li");
  assert.equal(await page.locator("#list .pick").first().isVisible(), false);
  await page.click("#choose");
  await until("there are two", async () => await page.locator("#list .pick").count() >= 2);
  const picks = page.locator("#list .pick");
  const two = [await picks.nth(0).getAttribute("data-pick"), await picks.nth(1).getAttribute("data-pick")];
  const state = async (n) => (await (await fetch(station.url + "api/sightings/" + n)).json());
  for (const n of two) await page.check(`[data-pick="${n}"]`);
  assert.match(await text("#several-said"), /^2 sightings chosen/);
  const bar = page.locator("#several");
  if (process.env.TAWNY_SHOT) await page.screenshot({ path: process.env.TAWNY_SHOT + "-several.png" });
  await bar.getByRole("button", { name: "Star", exact: true }).click();
  await until("both have a star", async () => (await state(two[0])).starred && (await state(two[1])).starred);
  await page.fill("#several-name", "Bufo bufo");
  await bar.getByRole("button", { name: "Save", exact: true }).click();
  await until("both have a name", async () => (await state(two[0])).name === "Bufo bufo" && (await state(two[1])).name === "Bufo bufo");
  await until("they are still chosen", async () => /^2 sightings/.test(await text("#several-said")));
  await until("both are over, and whole", async () => (await Promise.all(two.map(state))).every((s) => s.end && s.captures.length >= 2));
  const saved = page.waitForEvent("download");
  await page.click("#several-save");
  const file = await saved;
  assert.match(file.suggestedFilename(), /^hollin-\d{4}-\d\d-\d\d\.zip$/);
  const names = spawnSync("unzip", ["-Z1", await file.path()], { encoding: "utf8" });
  assert.equal(spawnSync("unzip", ["-tq", await file.path()]).status, 0);
  const wanted = (await Promise.all(two.map(state))).flatMap((s) => s.captures.map((c) => c.file)).sort();
  assert.deepEqual(names.stdout.trim().split("\n").sort(), wanted);
  await bar.getByRole("button", { name: "Delete\u2026" }).click();
  await page.click("#dialog-yes");
  await until("they are gone", async () => await page.locator(`[data-pick="${two[0]}"], [data-pick="${two[1]}"]`).count() === 0);
  assert.equal((await fetch(station.url + "api/sightings/" + two[0])).status, 404);
  await page.click("#undo");
  await until("the log has both", () => {
    const log = spawnSync(process.env.TAWNY, ["sightings", "--happened"], { cwd: station.folder, encoding: "utf8" }).stdout;
    return /2 sightings deleted, by somebody at this machine$/m.test(log) && /2 sightings not deleted after all, by somebody/m.test(log);
  });
  await until("they are back", async () => await page.locator(`[data-pick="${two[0]}"], [data-pick="${two[1]}"]`).count() === 2);
  await bar.getByRole("button", { name: "All of them" }).click();
  assert.match(await page.getAttribute("#several-save", "href"), /^\/packed\.zip\?from=/);
  await bar.getByRole("button", { name: "None" }).click();
  assert.equal(await page.getAttribute("#several-save", "href"), null);
  await page.click("#choose");
});

test("all days are searched by name, hours, size and mark", async () => {
  const found = async () => (await page.locator("#list .row-open").allInnerTexts()).length;
  await page.fill("#day", "2020-01-01");
  await page.dispatchEvent("#day", "change");
  await until("an empty day", async () => /Nothing on this day/.test(await text("#detail")));
  await page.click("#search");
  await until("all of them", async () => await found() >= 2);
  const all = await found();
  await page.fill("#search-name", "bufo");
  await page.click("#search-form button");
  await until("those of that name, with their date", async () => await found() === 2 && /^\w{3},? .*\d.*Bufo bufo/s.test((await page.locator("#list .row-open").first().innerText()).trim()));
  await page.fill("#search-larger", "99");
  await page.click("#search-form button");
  await until("none is so large", async () => /Nothing like that was seen/.test(await text("#detail")));
  await page.fill("#search-name", "");
  await page.fill("#search-larger", "");
  await page.fill("#search-hours", "never");
  await page.click("#search-form button");
  await until("what is wrong is said", async () => /hours are such as/.test(await text("#notice")));
  await page.fill("#search-hours", "00:00-24:00");
  await page.click("#search-form button");
  await until("all hours, and what has come since", async () => await found() >= all);
  await page.fill("#search-hours", "");
  await page.click("#search");
  await page.evaluate(() => { const d = new Date(); document.getElementById("day").value = d.getFullYear() + "-" + String(d.getMonth() + 1).padStart(2, "0") + "-" + String(d.getDate()).padStart(2, "0"); });
  await page.dispatchEvent("#day", "change");
  await until("today", async () => await found() >= 2);
});

test("an answer from before a deletion does not bring it back, nor do keys act on what was shown before", async () => {
  const row = (id) => page.locator("#list .row-open[data-id='" + id + "']");
  const shown = await until("two are there, and one is shown", async () => await page.locator("#list .row-open").count() > 1 && page.getAttribute("#detail", "data-number"));
  let release, held;
  const isHeld = new Promise((resolve) => { held = resolve; });
  const released = new Promise((resolve) => { release = resolve; });
  await page.route("**/api/sightings?most=20&*", async (route) => {
    const answer = await route.fetch();
    held();
    await released;
    await route.fulfill({ response: answer });
  }, { times: 1 });
  await isHeld;
  await page.keyboard.press("x");
  await page.click("#dialog-yes");
  await until("it is gone", async () => await row(shown).count() === 0);
  const late = page.waitForResponse((r) => /most=20/.test(r.url()));
  release();
  await late;
  await page.evaluate(() => new Promise((resolve) => requestAnimationFrame(() => requestAnimationFrame(resolve))));
  assert.equal(await row(shown).count(), 0);
  await page.click("#undo");
  await until("it is back", async () => await row(shown).count() === 1);
  const next = await until("another is shown", async () => (await page.getAttribute("#list .row-open[aria-current=true]", "data-id")));
  let go;
  const gone = new Promise((resolve) => { go = resolve; });
  await page.route(/api\/sightings\/\d+$/, async (route) => { await gone; await route.continue(); });
  await page.keyboard.press(next === await page.locator("#list .row-open").first().getAttribute("data-id") ? "j" : "k");
  await page.keyboard.press("x");
  assert.equal(await page.locator("dialog[open]").count(), 0);
  go();
});

test("orders, a test of a destination, forecasts", async () => {
  await goTo(page, "station");
  await page.getByRole("button", { name: "Send a test" }).click();
  await until("it has arrived", async () => /shed: Test arrived after [\d.]+ s/.test(await text("#notice")));
  assert.ok(existsSync(join(station.folder, "shed", "tawny-test.txt")));
  assert.match(await text("#plan"), /kerb/);
  assert.match(await text("#happened"), /opened/);
  await page.click("#all-disarm");
  await page.locator("#all").getByRole("button", { name: "for 1 h" }).click();
  await until("all are disarmed", async () => (await text("#busy")).match(/Disarmed/g)?.length === 2);
  await page.click("#all-set");
});

test("nothing went wrong on the way, and nobody else was asked", () => {
  assert.deepEqual(page.wrong, []);
});
