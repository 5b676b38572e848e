// The page of many stations: three real ones, a real broker, and a ledger in a file, then on a server, which has to
// ask for what the first was told.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { spawn, spawnSync } from "node:child_process";
import { chmodSync, existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { TOOL, freePort, openBrowser, until } from "./station.mjs";

const BOARDS = { north: ["kerb", 52.1, -1.3, "yes"], tunnel: ["tunnel", 52.104, -1.29, "no"], mere: ["mere", 52.11, -1.31, "yes"] };
const children = new Map();
let key = "";
let folder, port, browser, page, url, wrong = [], server = null;
const env = () => ({ ...process.env, XDG_RUNTIME_DIR: folder, PATH: process.env.PATH + ":/usr/sbin" });
const tell = (topic, message, ...more) => spawnSync("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(port), "-q", "1", "-t", topic, "-m", JSON.stringify(message), ...more], { env: env() });

// Each takes a while to be connected: forty at a time.
async function tellAll(words) {
  const one = () => words.length === 0 ? null : new Promise((resolve) => {
    const [topic, message] = words.shift();
    spawn("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(port), "-q", "1", "-r", "-t", topic, "-m", JSON.stringify(message)], { env: env(), stdio: "ignore" }).once("exit", resolve);
  }).then(one);
  await Promise.all(Array.from({ length: 40 }, one));
}

function start(name, words, cwd, extra = {}) {
  const child = spawn(words[0], words.slice(1), { cwd, env: { ...env(), ...extra } });
  let said = "";
  for (const from of [child.stdout, child.stderr]) from.on("data", (d) => { said += d; });
  child.ended = new Promise((resolve) => child.once("exit", resolve));
  child.said = () => said;
  children.set(name, child);
  return child;
}
async function end(name, signal = "SIGTERM") {
  const child = children.get(name);
  children.delete(name);
  if (!child || child.exitCode !== null || child.signalCode !== null) return;
  child.kill(signal);
  await child.ended;
}

function startBoard(name) {
  const [scene, latitude, longitude, orders] = BOARDS[name], own = join(folder, name);
  mkdirSync(own, { recursive: true });
  if (!existsSync(join(own, "station.ini"))) writeFileSync(join(own, "station.ini"), `[station]\nname = ${name}\nstore = captures\nlisten = none\nkeep_free = 0\n[cameras]\nloop = yes\npost_event = 1 s\npre_event = 1 s\nlatitude = ${latitude}\nlongitude = ${longitude}\n[camera ${scene}]\nsource = sim:${scene},size=240x136\nsend_to = hub\n[destination hub]\nurl = mqtt://127.0.0.1:${port}/lane\ntls = none\norders = ${orders}\nlive = ${orders}\n${name === "tunnel" ? "" : key}\n[sensor board]\nrun = echo 21.5\nunit = °C\n`);
  start(name, [TOOL, "watch"], own, { XDG_RUNTIME_DIR: own });
}

async function startGatherer(ledger) {
  writeFileSync(join(folder, "gather.ini"), `[gather]\ngather = mqtt://127.0.0.1:${port}/lane\ntls = none\nledger = ${ledger}\nlisten = 127.0.0.1:0\nmedia = {station}/captures/{file}\ngroups = lane: north tunnel; water: mere\nsettings_key = settings.key\n`);
  key = spawnSync(TOOL, ["gather", "--settings", "gather.ini", "--key"], { cwd: folder, env: env(), encoding: "utf8" }).stdout.trim().split("\n").at(-1);
  const gatherer = start("gatherer", [TOOL, "gather", "--settings", "gather.ini"], folder);
  url = await until("its page", () => (gatherer.said().match(/http:\/\/127\.0\.0\.1:\d+\//) || [null])[0]);
}

// A server of its own below a folder of its own, as a user who is not root.
function postgres(script) {
  const r = spawnSync("sh", ["-c", `set -e; B=$(ls -d /usr/lib/postgresql/*/bin | tail -1); D='${server}'; if [ $(id -u) = 0 ]; then R='runuser -u postgres --'; else R=; fi; cd /; ${script}`], { encoding: "utf8" });
  assert.equal(r.status, 0, r.stdout + r.stderr);
}
function startServer() {
  server = join(folder, "pg");
  mkdirSync(server);
  postgres(`if [ $(id -u) = 0 ]; then chown postgres $D; fi; chmod 700 $D; $R $B/initdb -D $D/data -A trust -U postgres -E UTF8 --locale=C --no-sync >/dev/null; $R $B/pg_ctl -s -w -t 60 -D $D/data -l $D/log -o "-k $D -c listen_addresses='' -c shared_buffers=32MB" start`);
  return "postgresql://postgres@/postgres?host=" + server;
}

const text = (selector) => page.locator(selector).innerText();
const ask = async (path) => (await page.request.get(url + path)).json();
const sightingsOf = async (query = "") => (await ask("api/sightings" + query)).sightings;
async function openAt(hash) {
  await page.goto("about:blank");
  await page.goto(url + "#" + hash);
}

before(async () => {
  folder = mkdtempSync(join(tmpdir(), "tawny-many-"));
  chmodSync(folder, 0o755);
  port = await freePort();
  writeFileSync(join(folder, "broker.conf"), `listener ${port} 127.0.0.1\nallow_anonymous true\n`);
  start("broker", ["mosquitto", "-c", "broker.conf"], folder);
  await until("a broker", () => tell("lane/none/test", "x").status === 0);
  await startGatherer("all.db");
  for (const name of Object.keys(BOARDS)) startBoard(name);
  browser = await openBrowser();
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 }, locale: "en-GB", timezoneId: "UTC" })).newPage();
  page.on("pageerror", (e) => wrong.push(e.message));
  page.on("console", (m) => { if (m.type() === "error" && !/400|404|503/.test(m.text())) wrong.push(m.text()); });
  page.on("request", (r) => { if (!r.url().startsWith(url) && !/^(data|blob|about):/.test(r.url())) wrong.push("asks elsewhere: " + r.url()); });
}, { timeout: 180000 });

after(async () => {
  await browser?.close();
  for (const name of [...children.keys()].reverse()) await end(name, name === "gatherer" ? "SIGTERM" : "SIGKILL");
  if (server) postgres("$R $B/pg_ctl -s -m immediate -D $D/data stop");
  rmSync(folder, { recursive: true, force: true });
});

for (const kind of ["file", "server"]) {
  test(kind + ": what came over all stations, of a group, and of one", async () => {
    if (kind === "server") { await page.goto("about:blank"); await end("gatherer"); await startGatherer(startServer()); }
    await until("each has seen something", async () => new Set((await sightingsOf()).map((s) => s.station)).size === 3, 200);
    await openAt("came");
    await until("plates of all", async () => (await page.locator(".plate .d").allInnerTexts()).filter((d) => /north\/kerb|tunnel\/tunnel|mere\/mere/.test(d)).length >= 3);
    assert.equal(await text("#station-name"), "All stations");
    assert.deepEqual(await page.locator(".sky .cam").allInnerTexts(), ["mere/mere", "north/kerb", "tunnel/tunnel"]);
    await until("a dusk of where they stand", async () => await page.locator(".sky .twi").count() > 0 || await page.locator(".sky .night").count() > 0);
    await page.selectOption("#scope", "group:water");
    await until("the group's alone", async () => (await page.locator(".sky .cam").allInnerTexts()).join() === "mere/mere" && (await page.locator(".plate .d").allInnerTexts()).every((d) => d.startsWith("mere/mere")) && await page.locator(".plate .d").count() > 0);
    await page.selectOption("#scope", "station:north");
    await until("the station's alone", async () => (await page.locator(".sky .cam").allInnerTexts()).join() === "north/kerb");
    await page.selectOption("#scope", "");
    await until("all again", async () => await page.locator(".sky .cam").count() === 3);
  });

  test(kind + ": a sighting is shown with its clip, named, marked and starred at its station", async () => {
    const one = await until("one with a clip", async () => (await sightingsOf("?station=north")).find((s) => s.clips > 0 && s.stills > 0 && !s.starred), 120);
    await openAt("sightings/" + one.number);
    const video = page.locator("#detail video");
    await until("its clip can be played", () => video.evaluate((v) => v.readyState >= 2 && v.videoWidth === 240));
    await page.click("#star");
    await until("it is starred", async () => (await ask("api/sightings/" + one.number)).starred);
    await until("and shown so", async () => await page.getAttribute("#star", "aria-pressed") === "true");
    await page.click("#mark-right");
    await until("it is marked", async () => (await ask("api/sightings/" + one.number)).mark === "right");
    await page.fill("#named", "Bufo bufo " + kind);
    await page.fill("#named-count", "2");
    await page.click("#named-save");
    await until("it is named", async () => { const s = await ask("api/sightings/" + one.number); return s.name === "Bufo bufo " + kind && s.count === 2; });
    await until("the list says so", async () => new RegExp("2\\s×\\sBufo bufo " + kind).test(await text("#list")));
    const kept = spawnSync(TOOL, ["sightings", "--json"], { cwd: join(folder, "north"), env: env(), encoding: "utf8" }).stdout.split("\n").filter(Boolean).map((l) => JSON.parse(l)).find((s) => s.number === one.own_number);
    assert.deepEqual([kept.name, kept.count, kept.mark, kept.starred], ["Bufo bufo " + kind, 2, "right", true]);
    await page.click("#search");
    await page.fill("#search-name", "BUFO BUFO " + kind);
    await page.click("#search-form button[type=submit]");
    await until("it is found by its name", async () => await page.locator("#list > li").count() === 1);
  });

  test(kind + ": stations are listed and drawn, and orders go to those that are shown", async () => {
    await openAt("stations");
    await until("all are there", async () => await page.locator("#stations-table tbody tr").count() === 3);
    assert.match(await text("#stations-title"), /3 stations, and none needs a visit/);
    assert.match(await text("#stations-table"), /board\s22\s°C/);
    assert.equal(await page.locator(".map .spot").count(), 3);
    const at = async (name) => page.locator(".map .spot[aria-label^='" + name + ",']").boundingBox();
    const [north, tunnel, mere] = await Promise.all(["north", "tunnel", "mere"].map(at));
    assert.ok(mere.y < tunnel.y && tunnel.y < north.y && mere.x < north.x && north.x < tunnel.x, "each where it stands");
    await page.selectOption("#scope", "group:lane");
    await until("two", async () => await page.locator("#stations-table tbody tr").count() === 2);
    await page.click("#stations-orders .menu-box > button");
    await page.click("#stations-orders .menu button >> nth=0");
    assert.match(await text("dialog"), /To 2 stations\?/);
    await page.click("#dialog-yes");
    const stateOf = async (camera) => (await ask("api/status")).cameras.find((c) => c.camera === camera).state;
    await until("the one that takes orders is disarmed", async () => await stateOf("north/kerb") === "disarmed");
    assert.notEqual(await stateOf("tunnel/tunnel"), "disarmed");
    assert.notEqual(await stateOf("mere/mere"), "disarmed");
    await page.request.post(url + "api/order", { headers: { "X-Tawny-Change": "local" }, data: { do: "as-set" } });
    await until("it is armed again", async () => await stateOf("north/kerb") !== "disarmed");
  });

  test(kind + ": settings of one and of a group are changed, signed and sent, and one that is away gets them when it is back", async () => {
    const fileOf = (name) => readFileSync(join(folder, name, "station.ini"), "utf8"), rest = kind === "file" ? "7 s" : "8 s";
    const answers = async () => Object.fromEntries((await page.locator("#form-words tbody tr").allInnerTexts()).filter((r) => r.includes(rest)).map((r) => [r.split(/\s/)[0], /Taken|Waits|Refused/.exec(r)[0]]));
    const send = async () => {
      await until("the form is there", async () => await page.locator("#set-rest").count() === 1);
      await page.fill("#set-rest", rest);
      await page.locator("#set-rest").blur();
      await page.click("#form-save");
      await page.waitForSelector("#dialog-yes");
    };
    await openAt("settings");
    await until("they are known", async () => /2 of 3 stations show their settings here/.test(await text("#form-file")), 60);
    await page.selectOption("#form-sections", "cameras ");
    await page.locator("#form-depth button[data-value=all]").click();
    await end("mere");
    await until("one is away", async () => (await ask("api/stations")).stations.some((s) => s.wants === "down"));
    const order = async (what) => (await page.request.post(url + "api/order?station=mere", { headers: { "X-Tawny-Change": "local" }, data: { do: what } })).json();
    assert.deepEqual(await order("disarm"), { told: 0, waits: 1, away: 1 });
    await send();
    assert.match(await text("dialog"), /north:\d+[^]*mere:\d+|mere:\d+[^]*north:\d+/);
    await page.click("#dialog-yes");
    await until("the one has it, the other waits", async () => JSON.stringify(Object.entries(await answers()).sort()) === '[["mere","Waits"],["north","Taken"]]', 60);
    assert.match(fileOf("north"), new RegExp("\\[cameras\\][^\\[]*rest = " + rest));
    assert.ok(!fileOf("mere").includes("rest ="), kind === "file" ? "it was not told" : "");
    await openAt("stations");
    await until("the table says that something waits", async () => /2 wait/.test(await page.locator("#stations-table tr", { hasText: "mere" }).innerText()));
    startBoard("mere");
    await openAt("settings");
    await until("it has it as well", async () => (await answers()).mere === "Taken", 90);
    assert.match(fileOf("mere"), new RegExp("rest = " + rest));
    const stateOf = async () => (await ask("api/status")).cameras.find((c) => c.camera === "mere/mere").state;
    await until("and the order", async () => await stateOf() === "disarmed");
    assert.deepEqual(await order("as-set"), { told: 1, waits: 0, away: 0 });
    await until("it is armed again", async () => await stateOf() !== "disarmed");
    await page.selectOption("#scope", "station:north");
    await until("its own sections", async () => (await page.locator("#form-sections option").allInnerTexts()).includes("Camera kerb"));
    await page.selectOption("#form-sections", "camera kerb");
    await until("its camera has it from all cameras", async () => (await page.inputValue("#set-rest").catch(() => "")).startsWith(rest[0]));
    await page.fill("#set-latitude", "far north");
    await page.locator("#set-latitude").blur();
    await page.click("#form-save");
    await until("what is wrong stands at its field", async () => /expected degrees/.test(await page.locator(".setting[data-key=latitude] .wrong").innerText()));
    await page.selectOption("#scope", "station:tunnel");
    await until("it shows none", async () => /no settings are known/.test(await text("#form-file")));
    await page.selectOption("#scope", "");
    if (kind === "server") return;
    for (const name of ["north", "mere"]) {  // for the second time
      await page.request.post(url + "api/settings?station=" + name, { headers: { "X-Tawny-Change": "local" }, data: { write: true, changes: [{ head: "cameras", name: "", key: "rest", value: null }] } });
      await until("it is as it was", async () => !fileOf(name).includes("rest ="), 60);
    }
  });

  test(kind + ": a zone is drawn from afar on a picture that the station sends, and the station takes it", async () => {
    const fileOf = (name) => readFileSync(join(folder, name, "station.ini"), "utf8"), zone = /\[zone mere\/zone1\][^\[]*area = 40,40 60,40 60,60 40,60/;
    await openAt("settings");
    await page.selectOption("#form-sections", "cameras ");
    await until("of several it is drawn for none", async () => await page.isHidden("#form-zones"));
    await page.selectOption("#scope", "station:mere");
    await until("its own camera", async () => (await page.locator("#form-sections option").allInnerTexts()).includes("Camera mere"));
    await page.selectOption("#form-sections", "camera mere");
    await page.click("#form-zones");
    await until("its zones", async () => await page.isVisible("#zones-new"));
    assert.match(page.url(), /#right\/zones\/mere\/mere$/);
    await until("a picture of it", async () => await page.locator("#zones-picture").evaluate((c) => c.width) === 240);
    await until("and no word of waiting", async () => await text("#zones-said") === "");
    assert.ok(await page.isHidden("#right-ways") && await page.isHidden("#zones-last"));
    await page.click("#zones-new");
    await page.click("#zones-new");  // a square in the middle
    await page.click("#zones-save");
    await page.waitForSelector("#dialog-yes");
    assert.match(await text("dialog"), /40,40 60,40 60,60 40,60/);
    await page.click("#dialog-yes");
    await until("it is said where the answer stands", async () => /Settings says/.test(await text("#notice")));
    await until("the station has it", async () => zone.test(fileOf("mere")), 60);
    assert.ok(!/\[zone/.test(fileOf("north")));
    await until("the gatherer knows it", async () => (await ask("api/zones/mere?station=mere")).zones.length === 1, 60);
    await page.click("#zones-list button");
    await page.click("#zone-delete");
    await page.click("#zones-save");
    await page.click("#dialog-yes");
    await until("it is gone", async () => !/\[zone/.test(fileOf("mere")), 60);
    await until("the gatherer knows that", async () => (await ask("api/zones/mere?station=mere")).zones.length === 0, 60);
    const other = await until("a sighting of another", async () => (await sightingsOf("?station=north")).at(-1));
    await openAt("sightings/" + other.number);  // its address names its station, whichever is chosen
    await page.waitForSelector("#star");
    await page.goto(url + "#right/zones/north/kerb");  // by its address, whichever was chosen
    await until("that of north", async () => await page.inputValue("#scope") === "station:north" && /kerb/.test(await text("#right-title")));
    await page.goto(url + "#right/zones/nowhere/kerb");
    await until("where there is no camera, nothing is drawn", async () => /no camera/.test(await text("#right-title")) && await page.isHidden("#right-zones"));
    await page.goto(url + "#right/often/north/kerb");
    await until("what is a station's own is not here", async () => await page.isHidden("#view-right"));
    await page.selectOption("#scope", "");
  });

  test(kind + ": live pictures come over the broker while somebody looks, of those that give them", async () => {
    await openAt("live");
    const drawn = (name) => page.locator("article[aria-label='" + name + "'] canvas").first().evaluate((c) => c.width === 240 ? c.toDataURL() : "");
    const first = await until("a picture of mere", () => drawn("mere/mere"));
    await until("another one", async () => { const now = await drawn("mere/mere"); return now && now !== first; });
    await until("one of north", () => drawn("north/kerb"));
    assert.equal(await drawn("tunnel/tunnel"), "");  // it gives none
    await page.locator("article[aria-label='mere/mere'] button.picture").click();
    await until("it is large", async () => await page.locator("article.large[aria-label='mere/mere']").count() === 1);
    assert.match(page.url(), /#live\/mere\/mere$/);
    const heard = spawn("mosquitto_sub", ["-h", "127.0.0.1", "-p", String(port), "-t", "lane/mere/mere/picture", "-F", "%l"], { env: env() });
    let sizes = "";
    heard.stdout.on("data", (d) => { sizes += d; });
    await until("they go on", () => sizes.split("\n").length > 3);
    assert.ok(sizes.split("\n").filter(Boolean).every((n) => Number(n) > 1000 && Number(n) < 60000), sizes);
    await openAt("stations");
    if (kind === "file") await until("nobody looks any more", async () => { const n = sizes; await new Promise((r) => setTimeout(r, 4000)); return n === sizes; }, 120);
    heard.kill();
    assert.equal((await page.request.get(url + "picture/mere/other")).status(), 404);
    assert.equal((await page.request.get(url + "picture/mere")).status(), 404);
  });

  test(kind + ": one that dies comes first, at the head, in the table, and on the map", async () => {
    await openAt("stations");
    await end("mere", "SIGKILL");
    await until("it comes first", async () => /mere/.test(await page.locator("#stations-table tbody tr").first().innerText()) && /Died without a word/.test(await page.locator("#stations-table tbody tr").first().innerText()));
    assert.match(await text("#stations-title"), /1 of 3 needs a visit/);
    assert.equal(await page.locator(".map .spot.bad").count(), 1);
    await until("the head says so", async () => /1 thing/.test(await text("#well")));
    await openAt("came");
    await until("what came says which", async () => /mere: Died without a word/.test(await text("#came-well")));
    startBoard("mere");
    await until("it is back", async () => (await ask("api/stations")).stations.every((s) => s.wants === "nothing"));
  });
}

test("a station that takes no orders keeps what it has", async () => {
  const one = await until("one of it", async () => (await sightingsOf("?station=tunnel")).at(-1), 120);
  await openAt("sightings/" + one.number);
  await page.waitForSelector("#star");
  await page.click("#star");
  await until("it is said that it has not answered", async () => /tunnel has not answered yet/.test(await text("#notice")), 30);
  assert.equal((await ask("api/sightings/" + one.number)).starred, false);
});

test("names that boards give are words, on the desk and on the phone", async () => {
  const evil = "<img src=x onerror=document.title=1>'\"&", series = "0a-1";
  tell("lane/" + evil + "/state", { type: "station", station: evil, state: "up", version: "<b>1</b>", series, time: new Date().toISOString(), sensors: [{ sensor: "<u>x</u>", value: 1, unit: "</td>" }] }, "-r");
  tell("lane/" + evil + "/<s>k/state", { type: "camera", station: evil, camera: "<s>k", state: "armed", latitude: 52.12, longitude: -1.28, width: 1e9, time: new Date().toISOString() });
  tell("lane/" + evil + "/<s>k/sighting", { type: "sighting", phase: "end", station: evil, camera: "<s>k", series, number: 1, start: new Date(Date.now() - 60e3).toISOString(), end: new Date().toISOString(), peak: 1e9, name: "</li><script>document.title=2</script>", why: "<h1>", captures: [{ kind: "still", file: "../../x.jpg", start: "x", bytes: 1 }] });
  const its = await until("it is heard of", async () => (await sightingsOf()).find((s) => s.station === evil));
  await openAt("sightings/" + its.number.split("/").map(encodeURIComponent).join("/"));
  await until("it is open", async () => (await text("#detail")).includes("<h1>"));
  assert.ok((await text("#list")).includes("</li><script>"));
  await openAt("stations");
  await until("it is listed", async () => (await text("#stations-table")).includes(evil));
  await page.locator(".map .spot[aria-label^='<img']").press("Enter");
  await until("it is what is looked at", async () => await page.inputValue("#scope") === "station:" + evil && (await text("#came-sky")).includes("<s>k"));
  await page.setViewportSize({ width: 390, height: 844 });
  for (const hash of ["came", "sightings", "stations"]) {
    await openAt(hash);
    await page.waitForTimeout(700);
    const wide = await page.evaluate(() => document.documentElement.scrollWidth <= innerWidth ? "" : [...document.querySelectorAll("body *")].filter((e) => e.getBoundingClientRect().right > innerWidth + 1).map((e) => e.tagName + "#" + e.id + "." + e.className).slice(0, 8).join(" "));
    assert.equal(wide, "", hash + " is as wide as the phone");
  }
  assert.match(await page.title(), /Tawny Watch/);
  assert.deepEqual(wrong, []);
});

test("of very many, kinds are told, the first rows are shown, and orders are to all of them", async () => {
  const time = new Date().toISOString(), MANY = 230, words = [];
  for (let i = 0; i < MANY; i++) {
    const station = "marsh-" + String(i).padStart(3, "0"), place = { latitude: 51 + i % 20 / 100, longitude: -2 + Math.floor(i / 20) / 100 };
    words.push(["lane/" + station + "/state", { type: "station", station, state: i < 6 ? "dead" : "up", series: "0b-" + i, time }],
      ["lane/" + station + "/kerb/state", { type: "camera", station, camera: "kerb", state: i >= 6 && i < 9 ? "lost" : "armed", time, ...place }]);
  }
  await tellAll(words);
  await page.setViewportSize({ width: 1280, height: 800 });
  const of = await until("all are heard of", async () => { const a = await ask("api/stations"); return a.all > MANY && a.amiss >= 9 ? a : null; }, 60);
  await openAt("came");
  await page.selectOption("#scope", "");
  await until("kinds are told", async () => /Died without a word: 6 stations marsh-000, marsh-001, marsh-002 and 3 more/.test(await text("#came-well")) && /A camera is lost: 3 stations marsh-006, marsh-007 and marsh-008/.test(await text("#came-well")));
  await page.click("#came-well button >> nth=0");
  await until("the first rows", async () => await page.locator("#stations-table tbody tr").count() === 100);
  assert.match(await text("#stations-title"), new RegExp("^" + of.amiss + " of " + of.all + " need a visit"));
  assert.equal(await page.locator(".map.dense .spot").count(), of.stations.filter((s) => s.latitude !== undefined).length);
  assert.equal(await page.locator(".map.dense .spot[tabindex]").count(), 0);
  await page.getByRole("button", { name: "Show " + (of.all - 100) + " more" }).click();
  assert.equal(await page.locator("#stations-table tbody tr").count(), of.all);
  await page.click("#stations-orders > button >> nth=0");
  assert.match(await text("dialog"), new RegExp("To " + of.all + " stations\\?"));
  await page.keyboard.press("Escape");
  assert.deepEqual(wrong, []);
});
