// Cameras of the local network, in networks of this test's own: here the station and its
// browser, at the other end of a cable devices that tell of themselves, well and badly.
import assert from "node:assert/strict";
import { spawn, spawnSync } from "node:child_process";
import { createRequire } from "node:module";
import { dirname, join } from "node:path";
import { userInfo } from "node:os";
import { test } from "node:test";
import { fileURLToPath } from "node:url";

const HERE = dirname(fileURLToPath(import.meta.url)), SUPPORT = join(HERE, "../support");
if (!process.env.TAWNY_ALONE) {
  // Once more, where there is no other network. Whoever is not root is so in there alone.
  const own = process.getuid() === 0 ? ["-n"] : ["-rn"];
  const run = spawnSync("unshare", [...own, process.execPath, "--test", fileURLToPath(import.meta.url)],
    { stdio: "inherit", env: { ...process.env, TAWNY_ALONE: "1", NODE_TEST_CONTEXT: undefined } });
  process.exit(run.status ?? 1);
}

const { openBrowser, openPage, goTo, startStation, TOOL, until } = await import("./station.mjs");
const { api, at, fits, misfit } = await import("./api.mjs");

const started = [];
function begin(command, words) {
  const child = spawn(command, words);
  const own = { child, said: "" };
  child.stdout.on("data", (d) => { own.said += d; });
  child.stderr.on("data", (d) => { own.said += d; });
  started.push(child);
  return own;
}
process.on("exit", () => { for (const c of started) c.kill("SIGKILL"); });
function ip(...words) {
  const done = spawnSync("ip", words, { encoding: "utf8" });
  assert.equal(done.status, 0, "ip " + words.join(" ") + ": " + done.stderr);
}

// The other end, with addresses for some devices.
ip("link", "set", "lo", "up");
const none = spawnSync(TOOL, ["check", "--cameras", "--network"], { encoding: "utf8" });
const other = begin("unshare", ["-n", "sh", "-c", "echo there; exec sleep 600"]);
await until("there is another network", () => other.said.includes("there"));
const inside = ["-t", String(other.child.pid), "-n"];
const away = (...words) => begin("nsenter", [...inside, ...words]);
const device = (file, ...words) => away("/usr/bin/python3", join(SUPPORT, file), ...words);
ip("link", "add", "lane0", "type", "veth", "peer", "name", "box0", "netns", String(other.child.pid));
ip("addr", "add", "10.7.0.1/24", "dev", "lane0");
ip("link", "set", "lane0", "up");
ip("route", "add", "default", "via", "10.7.0.254");
for (let i = 2; i <= 9; i++) spawnSync("nsenter", [...inside, "ip", "addr", "add", "10.7.0." + i + "/24", "dev", "box0"]);
spawnSync("nsenter", [...inside, "ip", "link", "set", "box0", "up"]);

const SECRET = 'pond&"<1>';
const listener = device("link_listener.py", "box0", "10.7.0.1");
const pond = device("network_camera.py", "10.7.0.2", "Pond box", "ann", SECRET);
const bank = device("named_camera.py", "10.7.0.3", "Bank, by the wall", "8554", "/main");
const odd = ["ugly", "liar", "loud", "bomb"].map((kind, i) => device("network_camera.py", "10.7.0." + (4 + i), "Box " + kind, "ann", SECRET, kind));
const http = device("network_camera.py", "10.7.0.8", "Old box", "ann", SECRET, "http");
const far = device("named_camera.py", "10.7.0.9", "Elsewhere", "554", "/a", "192.0.2.5");
await until("all devices are there", () => [listener, pond, bank, ...odd, http, far].every((d) => d.said.includes("ready")));

function check(words, password) {
  const done = spawnSync(TOOL, ["check", "--cameras", "--network", ...words], { encoding: "utf8", input: password ?? "" });
  return { ...done, found: words.includes("--json") ? done.stdout.split("\n").filter(Boolean).map((l) => JSON.parse(l)) : [] };
}
const one = (address, ...words) => check(["--at", address, "--user", "ann", ...words], SECRET + "\n");

test("without a network it says so", () => {
  assert.equal(none.status, 1);
  assert.match(none.stderr, /is on no network that cameras could be on/);
});

test("what answers is listed, whatever others answer", () => {
  const { found, status, stderr } = check(["--json"]);
  assert.equal(status, 0, stderr);
  for (const o of found) fits(at("components", "schemas", "Nearby"), o, "a camera");
  const by = Object.fromEntries(found.map((o) => [o.address, o]));
  assert.deepEqual(Object.keys(by).sort(), ["10.7.0.2", "10.7.0.3", "10.7.0.4", "10.7.0.5", "10.7.0.8"]);
  assert.equal(by["10.7.0.2"].name, "Pond box");
  assert.equal(by["10.7.0.2"].section, "pond-box");
  assert.deepEqual(by["10.7.0.2"].by, ["WS-Discovery"]);
  assert.equal(by["10.7.0.2"].can_be_asked, true);
  // By the library of others: a name with blanks and a comma, a port and a path.
  assert.deepEqual(by["10.7.0.3"].by, ["DNS-SD"]);
  assert.equal(by["10.7.0.3"].name, "Bank, by the wall");
  assert.equal(by["10.7.0.3"].source, "rtsp://10.7.0.3:8554/main");
});

test("the list can be read, and nothing in it steers a terminal or a file", () => {
  const { stdout } = check([]);
  assert.match(stdout, /^ok +camera 10\.7\.0\.2: Pond box, by WS-Discovery$/m);
  assert.match(stdout, /--at 10\.7\.0\.2 --user NAME$/m);
  assert.match(stdout, /^\[camera bank-by-the-wall\]\nsource = rtsp:\/\/10\.7\.0\.3:8554\/main$/m);
  assert.match(stdout, /^\d+ answers made no sense/m);
  // eslint-disable-next-line no-control-regex
  assert.doesNotMatch(stdout, /[\x00-\x09\x0b-\x1f\x7f\u0080-\u009f\u202a-\u202e]/);
  assert.doesNotMatch(stdout, /^\[station\]/m);
});

test("a camera tells its streams to who has its password, which does not go over the network", async () => {
  const { stdout, stderr, status } = one("10.7.0.2");
  assert.equal(status, 0, stdout + stderr);
  assert.match(stdout, /H264 1920 x 1080 at 25 frames a second at most: rtsp:\/\/10\.7\.0\.2:8554\/main\?channel=1&subtype=0$/m);
  assert.match(stdout, /^\[camera pond-box\]\nsource = rtsp:\/\/ann:PASSWORD@10\.7\.0\.2:8554\/main\?channel=1&subtype=0\ndetect_source = rtsp:\/\/ann:PASSWORD@10\.7\.0\.2:8554\/small$/m);
  assert.ok(!stdout.includes(SECRET));
  await until("the camera was asked", () => /asked GetStreamUri good/.test(pond.said));
  assert.doesNotMatch(pond.said, /over the network|basic|wrong probe/);
});

test("a wrong password is told from a device that wants one", () => {
  const wrong = check(["--at", "10.7.0.2", "--user", "ann"], "guess\n");
  assert.equal(wrong.status, 1);
  assert.match(wrong.stdout, /user or password are refused/);
  const without = check(["--at", "10.7.0.2"]);
  assert.equal(without.status, 1);
  assert.match(without.stdout, /to a user with a password alone/);
});

test("the digest of HTTP is given where it is wanted", () => {
  const { stdout, status } = one("10.7.0.8");
  assert.equal(status, 0, stdout);
  assert.match(stdout, /rtsp:\/\/10\.7\.0\.8:8554\/small$/m);
});

test("addresses that are none are not taken, and no user of others", () => {
  const { found } = one("10.7.0.4", "--json");
  assert.deepEqual(found[0].streams.map((s) => s.url), ["rtsp://10.7.0.4/main"]);
  assert.match(found[0].why, /address of a stream that is none/);
});

test("only what is near is asked", () => {
  const { found, status } = one("10.7.0.5", "--json");
  assert.equal(status, 1);
  assert.equal(found[0].streams.length, 0);
  const off = check(["--at", "192.0.2.99"]);
  assert.equal(off.status, 1);
  assert.match(off.stderr, /not on a network of this machine/);
  assert.equal(check(["--at", "kerb"]).status, 2);
  assert.equal(check(["--user", "ann"]).status, 2);
});

test("nothing was said beyond the link so far", async () => {
  await until("what was said is written down", () => /to 10\.7\.0\.8 /.test(listener.said));
  const to = listener.said.split("\n").filter((l) => l.startsWith("to ")).map((l) => l.split(" "));
  const sought = listener.said.split("\n").filter((l) => l.startsWith("seeks ")).map((l) => l.split(" ")[1]);
  assert.ok(to.length > 3 && sought.length > 0, listener.said);
  for (const [, address, , ttl] of to)
    assert.ok(address.startsWith("10.7.0.") || address === "224.0.0.251" || (address === "239.255.255.250" && ttl === "1") ||
      address === "224.0.0.22", address + " with ttl " + ttl);
  assert.ok(to.some(([, address]) => address === "239.255.255.250") && to.some(([, address]) => address === "224.0.0.251"));
  assert.ok(!sought.includes("10.7.0.254"), "the router was sought: " + listener.said);
});

test("others' client finds the stand-in as ours does", async () => {
  const asked = spawnSync(process.execPath, ["-e", `
    const { Discovery } = require("onvif");
    Discovery.on("error", () => {});
    const probe = (left) => Discovery.probe({ timeout: 2500 }, (err, cams) => {
      const cam = cams.find((c) => c.hostname === "10.7.0.2");
      if (!cam && left > 0) { probe(left - 1); return; }  // it asks once, in datagrams; the machine may be slow
      cam.username = "ann"; cam.password = ${JSON.stringify(SECRET)};
      cam.connect(() => cam.getProfiles((e, list) => Promise.all(list.map((p) => new Promise((done) =>
        cam.getStreamUri({ protocol: "RTSP", profileToken: p.$.token }, (e, s) => done(String(e || s.uri)))))).then((all) => {
          console.log(JSON.stringify(all.sort())); process.exit(0); })));
    });
    probe(4);`], { encoding: "utf8", cwd: HERE, timeout: 60000 });
  const ours = one("10.7.0.2", "--json").found[0].streams.map((s) => s.url).sort();
  assert.equal(ours.length, 3, JSON.stringify(ours));
  // That client does not write the name of the third as XML wants it.
  const theirs = JSON.parse(asked.stdout.trim().split("\n").pop() || "[]").filter((u) => u.startsWith("rtsp:"));
  assert.deepEqual(theirs, ours.slice(0, 2), asked.stderr.slice(-2000));
});

test("the page looks, asks and adds", async () => {
  const station = await startStation([["ann", "run", "a long password"]]);
  const browser = await openBrowser();
  try {
    const page = await openPage(browser, station.url);
    await page.fill("#name", "ann");
    await page.fill("#password", "a long password");
    await page.click("#login button");
    await goTo(page, "settings");
    await page.click("#add-open");
    await page.click("#near-look");
    await page.waitForSelector("#near-list li:nth-child(5)", { timeout: 60000 });
    assert.match(await page.textContent("#near-list li:nth-child(1)"), /Pond box.*10\.7\.0\.2/);
    await page.fill("#near-10-7-0-2-user", "ann");
    await page.fill("#near-10-7-0-2-word", SECRET);
    if (process.env.TAWNY_SHOT) await page.screenshot({ path: process.env.TAWNY_SHOT + "-list.png" });
    await page.click('button[aria-label="Streams of Pond box"]');
    await page.click('button[aria-label="Take the streams of Pond box"]', { timeout: 60000 });
    assert.equal(await page.inputValue("#new-name"), "pond-box");
    if (process.env.TAWNY_SHOT) await page.screenshot({ path: process.env.TAWNY_SHOT + "-taken.png" });
    await page.click("#new-camera button[type=submit]");
    await page.click("#dialog-yes");
    await until("it is written", () => station.settings().includes("[camera pond-box]"));
    const user = "ann:" + encodeURIComponent(SECRET) + "@";
    assert.ok(station.settings().includes("source = rtsp://" + user + "10.7.0.2:8554/main?channel=1&subtype=0\n"), station.settings());
    assert.ok(station.settings().includes("detect_source = rtsp://" + user + "10.7.0.2:8554/small\n"));
    const twice = await page.evaluate(async () => {
      const headers = { "X-Tawny-Change": (await (await fetch("/api/me")).json()).change };
      const two = [1, 2].map(() => fetch("/api/finds", { method: "POST", headers, body: "{}" }));
      return (await Promise.all(two)).map((a) => a.status).sort();
    });
    assert.deepEqual(twice, [200, 409]);
    const log = () => spawnSync(TOOL, ["sightings", "--happened"], { cwd: station.folder, encoding: "utf8" }).stdout;
    await until("the log says who it was", () => /settings changed in \d+ lines, by ann$/m.test(log()));
    await page.request.post(station.url + "api/order", { data: { do: "disarm", camera: "kerb" }, headers: { "X-Tawny-Change": (await (await page.request.get(station.url + "api/me")).json()).change } });
    await until("and of whom the order was", () => /disarmed, by order of ann$/m.test(log()));
    spawnSync(TOOL, ["arm", "kerb"], { cwd: station.folder, env: { ...process.env, XDG_RUNTIME_DIR: station.folder } });
    await until("also on the command line", () => new RegExp("armed, by order of " + userInfo().username + "$", "m").test(log()));
    assert.deepEqual(page.wrong, []);
  } finally {
    await browser.close();
    await station.stop();
  }
});

test("the answer of the page is as it is described", () => {
  const schema = at("paths", "/api/finds", "post", "responses", "200", "content", "application/json", "schema");
  assert.equal(misfit(schema, { found: check(["--json"]).found, networks: 1, dropped: 0 }), "");
  assert.ok(api.paths["/api/finds"].post.responses["409"]);
});

test.after(() => { for (const c of started) c.kill("SIGKILL"); });
