// Many stations at a real broker: what the gatherer exports, judged by the reader that others have for data
// packages; and its access list, held by the broker.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { spawn, spawnSync } from "node:child_process";
import { chmodSync, existsSync, readFileSync, statSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { readPackage } from "./package.mjs";
import { TOOL, freePort, until } from "./station.mjs";

const PASSWORD = "frogspawn", BOARDS = ["hollin", "mere-side", "gatherer"];
let folder, port, broker, gatherer, station, gathererSaid = "";
const env = () => ({ ...process.env, XDG_RUNTIME_DIR: folder, PATH: process.env.PATH + ":/usr/sbin" });
const tawny = (...words) => spawnSync(TOOL, words, { cwd: folder, env: env(), encoding: "utf8", maxBuffer: 1 << 26 });
const tell = (user, topic, message, ...more) => spawnSync("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(port), "-u", user, "-P", PASSWORD, "-q", "1", "-t", topic, "-m", typeof message === "string" ? message : JSON.stringify(message), ...more], { env: env(), encoding: "utf8" });

const GATHER = () => `[gather]
gather = mqtt://127.0.0.1:${port}/lane
tls = none
user = gatherer
secret_file = secret
ledger = all.db
groups = lane: hollin; water: mere* other
`;
const STATION = () => `# Hollin Lane toad crossing
[station]
name = hollin
store = captures
[cameras]
loop = yes
post_event = 2 s
latitude = 52.100001
longitude = -1.25
stills = first
[camera kerb]
source = sim:kerb,size=240x136
[destination hub]
url = mqtt://127.0.0.1:${port}/lane
tls = none
user = hollin
secret_file = secret
`;

// As the gatherer prints it, with a password for each that logs in.
async function startBroker() {
  const access = tawny("gather", "--access", "--settings", "gather.ini");
  assert.equal(access.status, 0, access.stderr);
  writeFileSync(join(folder, "access"), access.stdout);
  for (const [i, user] of BOARDS.entries()) assert.equal(spawnSync("mosquitto_passwd", ["-b", ...(i === 0 ? ["-c"] : []), join(folder, "users"), user, PASSWORD], { env: env() }).status, 0);
  spawnSync("chmod", ["644", join(folder, "users"), join(folder, "access")]);
  spawnSync("chmod", ["755", folder]);
  writeFileSync(join(folder, "broker.conf"), `listener ${port} 127.0.0.1\nallow_anonymous false\npassword_file ${join(folder, "users")}\nacl_file ${join(folder, "access")}\n`);
  broker = spawn("mosquitto", ["-c", join(folder, "broker.conf")], { stdio: "ignore", env: env() });
  await until("a broker", () => tell("gatherer", "lane/none/order", "x").status === 0);
}

const record = (station, more) => Object.assign({ type: "sighting", phase: "end", station, series: "00000000000000000000000000000001", number: 1, camera: "kerb", start: "2027-03-13T21:24:07.250Z", end: "2027-03-13T21:24:19.500Z", peak: 1.3, mark: "none", why: "1.30 % moved" }, more);
const known = () => tawny("gather", "--sightings", "--json", "--settings", "gather.ini").stdout.split("\n").filter(Boolean).map((l) => JSON.parse(l));

before(async () => {
  folder = mkdtempSync(join(tmpdir(), "tawny-gathered-"));
  port = await freePort();
  writeFileSync(join(folder, "secret"), PASSWORD + "\n", { mode: 0o600 });
  writeFileSync(join(folder, "gather.ini"), GATHER());
  await startBroker();
  writeFileSync(join(folder, "station.ini"), STATION());
  gatherer = spawn(TOOL, ["gather", "--settings", "gather.ini"], { cwd: folder, env: env() });
  for (const from of [gatherer.stdout, gatherer.stderr]) from.on("data", (d) => { gathererSaid += d; });
  await until("it takes in", () => /Taking in/.test(gathererSaid));
  station = spawn(TOOL, ["watch"], { cwd: folder, env: env(), stdio: "ignore" });
  await until("what the station saw", () => known().some((r) => r.station === "hollin"));
  station.kill("SIGTERM");
  await new Promise((resolve) => station.on("exit", resolve));
}, { timeout: 240000 });

after(() => {
  station?.kill("SIGKILL");
  gatherer?.kill("SIGTERM");
  broker?.kill("SIGTERM");
  rmSync(folder, { recursive: true, force: true });
});

test("a board writes its own topics alone, and the gatherer hears of no other", async () => {
  tell("mere-side", "lane/hollin/kerb/sighting", record("hollin", { number: 900 }));
  tell("mere-side", "lane/hollin/state", { type: "station", station: "hollin", state: "dead" });
  tell("mere-side", "lane/hollin/ask", { series: "x", numbers: [[1, 9]] });
  tell("mere-side", "lane/mere-side/reeds/sighting", record("mere-side", { camera: "reeds", number: 7 }));
  await until("what it may tell", () => known().some((r) => r.station === "mere-side" && r.number === 7));
  assert.ok(!known().some((r) => r.number === 900), "told in the name of another");
  const states = tawny("gather", "--stations", "--json", "--settings", "gather.ini").stdout;
  assert.doesNotMatch(states, /dead/);
  // What is meant for one is not read by another.
  const listener = spawn("mosquitto_sub", ["-h", "127.0.0.1", "-p", String(port), "-u", "mere-side", "-P", PASSWORD, "-t", "lane/#", "-v"], { env: env() });
  let heard = "";
  listener.stdout.on("data", (d) => { heard += d; });
  await until("it hears its own", () => { tell("gatherer", "lane/mere-side/order", "arm"); return /lane\/mere-side\/order arm/.test(heard); });
  tell("gatherer", "lane/hollin/order", "trigger");
  tell("hollin", "lane/hollin/kerb/sighting", "x");
  tell("gatherer", "lane/mere-side/order", "disarm");
  await until("its next", () => /disarm/.test(heard));
  assert.doesNotMatch(heard, /hollin/);
  listener.kill();
});

test("all of it is one package, that a reader of the standard takes", async () => {
  tell("mere-side", "lane/mere-side/reeds/state", { type: "camera", station: "mere-side", camera: "reeds", state: "armed", latitude: 52.2, longitude: -1.3, time: "2027-03-13T20:00:00.000Z" });
  tell("mere-side", "lane/mere-side/shed/state", { type: "camera", station: "mere-side", camera: "shed", state: "armed", latitude: 152.2, longitude: -1.3, time: "2027-03-13T20:00:00.000Z" });
  tell("mere-side", "lane/mere-side/barn/state", { type: "camera", station: "mere-side", camera: "barn", state: "armed", latitude: 52.2, longitude: "east", time: "2027-03-13T20:00:00.000Z" });
  tell("mere-side", "lane/mere-side/reeds/sighting", record("mere-side", { camera: "reeds", number: 8, name: 'Bufo "bufo", the\n=1+1', count: 3, note: "by the <drain>", named_by: "a program", sure: 87.5, named: "2027-03-13T22:00:00.000Z", mark: "right", starred: true,
    captures: [{ type: "capture", camera: "reeds", kind: "still", file: "2027-03-13/a still,1.jpg", start: "2027-03-13T21:24:08.000Z", bytes: 5 },
      { type: "capture", kind: "clip", file: "../../../etc/passwd", start: "2027-03-13T21:24:08.000Z" }, { type: "capture", kind: "wisdom", file: "x.txt" }, 7, null] }));
  tell("mere-side", "lane/mere-side/shed/sighting", record("mere-side", { camera: "shed", number: 9 }));
  tell("mere-side", "lane/mere-side/barn/sighting", record("mere-side", { camera: "barn", number: 10 }));
  await until("all is told", () => [7, 8, 9, 10].every((n) => known().some((r) => r.station === "mere-side" && r.number === n)));
  const o = tawny("gather", "--camtrap", "package", "--media", "https://store.lane.example/{station}/{file}", "--settings", "gather.ini");
  assert.equal(o.status, 0, o.stderr);
  assert.match(o.stderr, /^1 sighting of mere-side\/shed left out: it is not known where that camera stands$/m);
  assert.match(o.stderr, /^1 sighting of mere-side\/barn left out/m);
  const { faults, read } = await readPackage(join(folder, "package"));
  assert.deepEqual(faults, []);
  assert.deepEqual(read.deployments.map((d) => [d.deploymentID, d.latitude, d.longitude]).sort(), [["hollin/kerb", 52.100001, -1.25], ["mere-side/reeds", 52.2, -1.3]]);
  assert.equal(read.observations.length, known().length - 2);
  const named = read.observations.find((r) => /\/8$/.test(r.observationID)), media = read.media.filter((m) => m.deploymentID.deploymentID === "mere-side/reeds" || m.deploymentID === "mere-side/reeds");
  assert.deepEqual([named.scientificName, named.count, named.classificationMethod, named.classifiedBy, named.classificationProbability, named.observationType], ['Bufo "bufo", the\n=1+1', 3, "machine", "a program", 0.875, "animal"]);
  assert.deepEqual(media.map((m) => [m.filePath, m.fileName, m.favorite]), [["https://store.lane.example/mere-side/2027-03-13/a%20still%2C1.jpg", "a still,1.jpg", true]]);
  assert.ok(read.media.some((m) => m.filePath.startsWith("https://store.lane.example/hollin/") && m.fileMediatype === "image/jpeg"));
});

test("a camera that was moved is another deployment", async () => {
  const stands = (time, latitude, longitude) => tell("mere-side", "lane/mere-side/gate/state", { type: "camera", station: "mere-side", camera: "gate", state: "armed", latitude, longitude, time });
  const saw = (number, time) => tell("mere-side", "lane/mere-side/gate/sighting", record("mere-side", { camera: "gate", number, start: time, end: time }));
  stands("2027-03-01T20:00:00.000Z", 52.3, -1.4);
  saw(21, "2027-02-28T21:00:00.000Z");  // before it said where it stands
  saw(22, "2027-03-05T21:00:00.000Z");
  stands("2027-03-10T12:00:00.000Z", 52.35, -1.45);
  saw(23, "2027-03-10T11:59:59.000Z");
  saw(24, "2027-03-10T12:00:00.000Z");
  await until("all is told", () => [21, 22, 23, 24].every((n) => known().some((r) => r.station === "mere-side" && r.number === n)));
  assert.equal(tawny("gather", "--camtrap", "moved", "--station", "mere-side", "--settings", "gather.ini").status, 0);
  const { faults, read } = await readPackage(join(folder, "moved")), of = (o) => o.deploymentID.deploymentID || o.deploymentID;
  assert.deepEqual(faults, []);
  assert.deepEqual(read.deployments.filter((d) => /gate/.test(d.deploymentID)).map((d) => [d.deploymentID, d.latitude, d.longitude, new Date(d.deploymentStart).toISOString(), new Date(d.deploymentEnd).toISOString()]),
    [["mere-side/gate", 52.3, -1.4, "2027-02-28T21:00:00.000Z", "2027-03-10T11:59:59.000Z"], ["mere-side/gate/2", 52.35, -1.45, "2027-03-10T12:00:00.000Z", "2027-03-10T12:00:00.000Z"]]);
  assert.deepEqual(read.observations.filter((o) => /gate/.test(of(o))).map((o) => [o.observationID.split("/").at(-1), of(o)]).sort(), [["21", "mere-side/gate"], ["22", "mere-side/gate"], ["23", "mere-side/gate"], ["24", "mere-side/gate/2"]]);
});

test("of a name, of a station; and what is wrong is said", async () => {
  const rows = async (place) => (await readPackage(join(folder, place))).read.observations.length;
  assert.equal(tawny("gather", "--camtrap", "one", "--station", "mere-side", "--named", 'Bufo "bufo", the\n=1+1', "--settings", "gather.ini").status, 0);
  assert.equal(await rows("one"), 1);
  const none = tawny("gather", "--camtrap", "none", "--named", "Rana", "--settings", "gather.ini");
  assert.equal(none.status, 1);
  assert.match(none.stderr, /there are no sightings to export/);
  const wrong = tawny("gather", "--camtrap", "x", "--media", "https://here/", "--settings", "gather.ini");
  assert.equal(wrong.status, 2);
  assert.match(wrong.stderr, /--media is a text with \{file\} in it/);
});

test("when those came that have a name, over all stations", async () => {
  for (const [n, name, hour] of [[20, "Rana temporaria", "20"], [21, "Rana temporaria", "20"], [22, "Rana temporaria", "22"], [23, "\u001b[31m evil\nset output '/tmp/tawny-plotted'", "03"]])
    tell("mere-side", "lane/mere-side/reeds/sighting", record("mere-side", { camera: "reeds", number: n, name, start: `2027-03-13T${hour}:10:00.000Z`, end: `2027-03-13T${hour}:11:00.000Z` }));
  await until("all is told", () => known().some((r) => r.number === 23));
  const o = spawnSync(TOOL, ["gather", "--pattern", "all.png", "--station", "mere-side", "--settings", "gather.ini"], { cwd: folder, env: { ...env(), TZ: "UTC" }, encoding: "utf8" });
  assert.equal(o.status, 0, o.stderr);
  const line = o.stdout.split("\n").find((l) => l.startsWith("Rana temporaria")).trim().split(/\s+/).slice(2);
  assert.deepEqual(line.map((n, h) => [h, n]).filter(([, n]) => n !== "."), [[20, "2"], [22, "1"], [24, "3"]]);
  assert.ok(!o.stdout.includes("\u001b"), "what a board said does not speak to the terminal");
  assert.ok(readFileSync(join(folder, "all.png")).subarray(1, 4).equals(Buffer.from("PNG")));
  assert.ok(!existsSync("/tmp/tawny-plotted"));
  const none = tawny("gather", "--pattern", "none.png", "--named", "Rana", "--settings", "gather.ini");
  assert.equal(none.status, 1);
  assert.match(none.stderr, /none of these sightings has a name/);
  assert.equal(tawny("gather", "--pattern", "x.jpg", "--settings", "gather.ini").status, 2);
});

test("a key is made once, for its owner's eyes, and printed as stations need it", () => {
  const key = () => tawny("gather", "--key", "--settings", "gather.ini", "--set", "gather.settings_key=signs");
  const none = tawny("gather", "--key", "--settings", "gather.ini");
  assert.equal(none.status, 2);
  assert.match(none.stderr, /write settings_key = FILE below \[gather\]/);
  const first = key(), again = key();
  assert.equal(first.status, 0, first.stderr);
  assert.match(first.stdout, /^settings_from = [A-Za-z0-9+/]{43}=$/m);
  assert.equal(again.stdout, first.stdout);
  assert.equal(statSync(join(folder, "signs")).mode & 0o777, 0o600);
  assert.ok(!first.stdout.includes(readFileSync(join(folder, "signs"), "utf8").trim()), "the secret is not shown");
  chmodSync(join(folder, "signs"), 0o644);
  assert.match(key().stderr, /may be read by others than its owner/);
  chmodSync(join(folder, "signs"), 0o600);
  writeFileSync(join(folder, "signs"), "no key\n");
  const wrong = key();
  assert.equal(wrong.status, 2);
  assert.match(wrong.stderr, /signs holds no key/);
});

test("of a group", () => {
  const stations = (...more) => tawny("gather", ...more, "--json", "--settings", "gather.ini").stdout.split("\n").filter(Boolean).map((l) => JSON.parse(l).station);
  assert.deepEqual(stations("--stations", "--group", "water"), ["mere-side"]);
  assert.deepEqual(stations("--stations", "--station", "hollin"), ["hollin"]);
  assert.deepEqual(stations("--stations", "--group", "water", "--station", "hollin"), []);
  assert.deepEqual([...new Set(stations("--sightings", "--group", "water"))], ["mere-side"]);
  assert.deepEqual([...new Set(stations("--sightings", "--group", "lane"))], ["hollin"]);
  const wrong = tawny("gather", "--stations", "--group", "hill", "--settings", "gather.ini");
  assert.equal(wrong.status, 2);
  assert.match(wrong.stderr, /there is no group hill/);
});
