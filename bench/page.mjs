// How quick the page is where its readers are: its first view, as quick as here and with the processor six
// times slower, what moves after the first second, and a list of 5,000 sightings that is scrolled to its
// end. Exit 1 if a limit is missed. TAWNY is the tool; the browser is as the tests have it.
import { spawnSync } from "node:child_process";
import { copyFileSync, linkSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { openBrowser, until, watchIn } from "../tests/browser/station.mjs";

const SIGHTINGS = 5000, USABLE_MS = 500, SLOW_MS = 1500, SLOWER = 6, FRAME_MS = 50, SHIFT = 0.01, ROUNDS = 5;
const ROW_PX = 80, STRIDE = 100, FLICK_PX_S = 8000;  // a hundred rows a second
const median = (all) => all.sort((a, b) => a - b)[Math.floor(all.length / 2)];

const SETTINGS = `[station]
name = hollin
store = captures
listen = 127.0.0.1:0
keep_free = 0
[cameras]
loop = yes
[camera kerb]
source = sim:kerb,size=640x360
stills = none
[camera mere]
source = sim:mere,size=640x360
`;

// As if it had watched for a hundred days: each sighting has a still.
const FILL = `
import sqlite3, sys, time
db = sqlite3.connect(sys.argv[1]); n = int(sys.argv[2]); now = int(time.time() * 1e6)
run = db.execute("SELECT max(id) FROM run").fetchone()[0]
for i in range(n):
    t = now - (n - i) * 100 * 86400 * 1000000 // n - 3600 * 1000000
    if i >= n - 16:  # whatever the hour, some have come lately
        t = now - (n - i) * 40 * 1000000
    c = "kerb" if i % 3 else "mere"
    db.execute("INSERT INTO sighting(run, camera, number, part, start_us, end_us, order_us, peak_ppm, frames, start_ppm, stay_ppm, why) VALUES (?,?,?,1,?,?,?,?,200,5000,5000,'1.20 % of the watched area moved')", (run, c, 100000 + i, t, t + 12000000, t, 8000 + i % 40000))
    g = db.execute("SELECT last_insert_rowid()").fetchone()[0]
    db.execute("INSERT INTO capture(run, sighting, camera, kind, file, bytes, start_us, order_us) VALUES (?,?,?,'still',?,40000,?,?)", (run, g, c, "many/%d.jpg" % i, t, t))
db.commit()`;

function fill(folder) {
  const store = join(folder, "captures"), many = join(store, "many");
  const shot = spawnSync(process.env.TAWNY, ["look", "--after", "35", "--output", join(folder, "still.jpg"), "sim:kerb"], { cwd: folder });
  if (shot.status !== 0) throw new Error("no still: " + shot.stderr);
  mkdirSync(many, { recursive: true });
  copyFileSync(join(folder, "still.jpg"), join(many, "0.jpg"));
  for (let i = 1; i < SIGHTINGS; i++) linkSync(join(many, "0.jpg"), join(many, i + ".jpg"));
  const done = spawnSync("/usr/bin/python3", ["-c", FILL, join(store, "catalogue.db"), String(SIGHTINGS)], { encoding: "utf8" });
  if (done.status !== 0) throw new Error(done.stderr);
}

// When what came was painted first; what moved after the first second, unless somebody pressed something.
const WATCH = () => {
  const look = new MutationObserver(() => {
    const v = document.getElementById("view-came");
    if (!v || v.hidden || !v.querySelector("figure.plate a")) return;
    look.disconnect();
    requestAnimationFrame(() => setTimeout(() => { window.usable = performance.now(); }));
  });
  look.observe(document, { childList: true, subtree: true });
  window.moved = 0;
  new PerformanceObserver((list) => { for (const e of list.getEntries()) if (e.startTime > 1000 && !e.hadRecentInput) window.moved += e.value; }).observe({ type: "layout-shift", buffered: true });
};

async function firstView(browser, url, slower) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block" });
  const page = await context.newPage();
  const devtools = await context.newCDPSession(page);
  await page.addInitScript(WATCH);
  if (slower > 1) await devtools.send("Emulation.setCPUThrottlingRate", { rate: slower });
  await page.goto(url, { waitUntil: "commit" });
  await page.waitForTimeout(3000 + 500 * slower);
  const ms = Math.round(await page.evaluate(() => window.usable || Infinity));
  const moved = await page.evaluate(() => window.moved);
  await context.close();
  return { ms, moved };
}

// How long it was from each frame that was drawn to the next, in ms, by the browser's own account.
async function framesOf(devtools, work) {
  const drawn = [], take = (e) => { for (const one of e.value) if (one.name === "DrawFrame") drawn.push(one.ts / 1000); };
  devtools.on("Tracing.dataCollected", take);
  await devtools.send("Tracing.start", { transferMode: "ReportEvents", traceConfig: { includedCategories: ["disabled-by-default-devtools.timeline.frame"] } });
  await work();
  const told = new Promise((resolve) => devtools.once("Tracing.tracingComplete", resolve));
  await devtools.send("Tracing.end");
  await told;
  devtools.off("Tracing.dataCollected", take);
  drawn.sort((a, b) => a - b);
  return drawn.slice(1).map((t, i) => t - drawn[i]);
}

async function scroll(browser, url) {
  const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block" })).newPage();
  await page.goto(url + "#sightings", { waitUntil: "domcontentloaded" });
  await page.waitForSelector("#list");
  await page.click("#search");
  await page.click("#search-form button[type=submit]");
  await until("a list", async () => await page.locator("#list > li").count() >= 50);
  const devtools = await page.context().newCDPSession(page), box = await page.locator("#list").boundingBox();
  const flick = { x: Math.round(box.x + box.width / 2), y: Math.round(box.y + box.height / 2), yDistance: -ROW_PX * STRIDE, speed: FLICK_PX_S, gestureSourceType: "mouse", preventFling: true };
  const at = () => page.evaluate(() => { const l = document.getElementById("list"); return { rows: l.children.length, end: l.scrollTop + l.clientHeight > l.scrollHeight - 2 }; });
  let gaps = [];
  for (let i = 0; i < SIGHTINGS; i += STRIDE) {
    gaps = gaps.concat(await framesOf(devtools, () => devtools.send("Input.synthesizeScrollGesture", flick)));
    await until("there is more to scroll", async () => { const a = await at(); return !a.end || a.rows >= SIGHTINGS; });
  }
  const { rows, end } = await at(), found = { rows, end, worst: Math.max(...gaps), over: gaps.filter((g) => g > FRAME_MS).length, frames: gaps.length };
  await page.context().close();
  return found;
}

const folder = mkdtempSync(join(tmpdir(), "tawny-bench-"));
let good = true, station = null;
const browser = await openBrowser();
try {
  writeFileSync(join(folder, "station.ini"), SETTINGS);
  station = await watchIn(folder);
  station.child.kill("SIGTERM");
  await station.ended;
  fill(folder);
  station = await watchIn(folder);
  for (const [slower, most] of [[1, USABLE_MS], [SLOWER, SLOW_MS]]) {
    const all = [];
    for (let i = 0; i < ROUNDS; i++) all.push(await firstView(browser, station.url, slower));
    const ms = median(all.map((a) => a.ms)), moved = Math.max(...all.map((a) => a.moved));
    console.log("first view" + (slower > 1 ? ", processor " + slower + " times slower" : "") + ": usable after " + ms + " ms (" + most + "), shift after the first second " + moved.toFixed(4));
    good = good && ms <= most && moved <= SHIFT;
  }
  const s = await scroll(browser, station.url);
  console.log("a list of " + s.rows + " sightings, scrolled to its end: " + s.over + " of " + s.frames + " frames longer than " + FRAME_MS + " ms, the longest " + s.worst.toFixed(0) + " ms");
  good = good && s.rows >= SIGHTINGS && s.end && s.over === 0;
} finally {
  station?.child.kill("SIGKILL");
  await browser.close();
  rmSync(folder, { recursive: true, force: true });
}
process.exit(good ? 0 : 1);
