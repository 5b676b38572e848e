// Everything that is told as JSON, held against docs/page-api.json by a standard validator:
// from the page, a broker, a hook, a destination, the socket, and --json.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { spawn, spawnSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { createServer as listen } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { Validator } from "@seriousme/openapi-schema-validator";
import { createConfig, lint } from "@redocly/openapi-core";
import { API, DOCS, api, at, fits, misfit, wrongRequest } from "./api.mjs";
import { TOOL, freePort, until, watchIn } from "./station.mjs";

const FORMS = api.components.schemas;
const seen = new Map(Object.keys(FORMS).map((name) => [name, new Set()]));

// Which form an object is of, by its type.
const BY_TYPE = new Map();
for (const [name, form] of Object.entries(FORMS)) {
  const type = form.properties?.type;
  for (const word of type?.enum || (type?.const ? [type.const] : [])) BY_TYPE.set(word, [...(BY_TYPE.get(word) || []), name]);
}

// Note which keys were seen, also within.
function note(o) {
  if (Array.isArray(o)) o.forEach(note);
  if (!o || typeof o !== "object" || Array.isArray(o)) return;
  for (const name of BY_TYPE.get(o.type) || []) for (const key of Object.keys(o)) seen.get(name).add(key);
  for (const value of Object.values(o)) note(value);
}

function holds(schema, o, where) {
  fits(schema, o, where);
  note(o);
}

// An object that says its type.
function told(o, where) {
  const names = BY_TYPE.get(o.type);
  assert.ok(names, where + ": " + o.type + " is not described: " + JSON.stringify(o));
  holds({ anyOf: names.map((n) => at("components", "schemas", n)) }, o, where);
}

// Objects, one a line. @return how many.
function lines(text, where) {
  const all = text.split("\n").filter((l) => l.trim());
  for (const line of all) told(JSON.parse(line), where);
  return all.length;
}

let folder, broker, brokerPort, listener, refuser, station, heard = "";
const env = () => ({ ...process.env, XDG_RUNTIME_DIR: folder });
const run = (...words) => {
  const o = spawnSync(TOOL, words, { cwd: folder, env: env(), encoding: "utf8" });
  assert.equal(o.status, 0, words.join(" ") + ": " + o.stderr);
  return o.stdout;
};

async function startBroker() {
  const port = brokerPort = await freePort();
  writeFileSync(join(folder, "hub.conf"), "listener " + port + " 127.0.0.1\nallow_anonymous true\n");
  broker = spawn("mosquitto", ["-c", join(folder, "hub.conf")], { stdio: "ignore", env: { ...process.env, PATH: process.env.PATH + ":/usr/sbin" } });
  await until("a broker", () => spawnSync("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(port), "-t", "x", "-n"]).status === 0);
  listener = spawn("mosquitto_sub", ["-h", "127.0.0.1", "-p", String(port), "-t", "lane/#", "-q", "1", "-F", "%t %p"]);
  listener.stdout.on("data", (d) => { heard += d; });
  return port;
}

const settings = (port, refusing) => `# Hollin Lane toad crossing
[station]
name = hollin
store = captures
listen = 127.0.0.1:0
accounts_file = accounts
keep_free = 0
page_url = https://hollin.example
alarm_after = 5 s
daily_word = 00:00
species = ${join(folder, "species.csv")}

[cameras]
loop = yes
post_event = 2 s
rest = 1 s
longest = 20 s
send_to = hub, shed, gone
latitude = 53.8
longitude = -1.5

[camera kerb]
source = sim:kerb,size=320x180

[camera kerb when 00:00-24:00]
still_quality = 80

[camera kerb when light]
post_event = 2 s

[camera mere]
source = http://127.0.0.1:9/stream

[destination hub]
url = mqtt://127.0.0.1:${port}/lane
settings_from = 11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=
on = sightings, alarms, daily

[destination shed]
url = file:${join(folder, "shed")}
what = still, record

[destination gone]
url = http://127.0.0.1:${refusing}/
by = put
what = still

[hook note]
on = began, still, clip, ended, lost, stopped, alarm, daily
run = /bin/sh ${join(folder, "note.sh")}

[sensor board]
file = ${join(folder, "warm")}
factor = 0.001
unit = °C
every = 1 s
alarm_above = 60
alarm_below = 0

[sensor battery]
file = ${join(folder, "none")}
`;

before(async () => {
  folder = mkdtempSync(join(tmpdir(), "tawny-forms-"));
  mkdirSync(join(folder, "shed"));
  writeFileSync(join(folder, "warm"), "71000\n");
  writeFileSync(join(folder, "species.csv"), "name,common,key\nBufo bufo,common toad,b\n");
  const port = await startBroker();
  refuser = listen((_, answer) => answer.writeHead(401).end()).listen(0, "127.0.0.1");
  await until("one who refuses", () => refuser.address());
  writeFileSync(join(folder, "note.sh"), "text=$(cat); printf '%s\\n' \"$text\" >> " + join(folder, "noted") + "\n");
  writeFileSync(join(folder, "station.ini"), settings(port, refuser.address().port));
  station = await watchIn(folder, "--json");
}, { timeout: 120000 });

after(async () => {
  for (const child of [station?.child, listener, broker]) child?.kill("SIGKILL");
  refuser.close();
  refuser.closeAllConnections();
  rmSync(folder, { recursive: true, force: true });
});

test("the description is one, by the standard's own schema", async () => {
  const found = await new Validator().validate(structuredClone(api));
  assert.deepEqual(found.errors, undefined);
  assert.equal(found.valid, true);
});

test("a linter has nothing to say of it", async () => {
  // Forms of what brokers, hooks, destinations and the tool say are described here, too.
  const config = await createConfig({ extends: ["recommended"], rules: { "no-unused-components": "off" } });
  const said = await lint({ ref: API, config });
  assert.deepEqual(said.map((p) => p.ruleId + ": " + p.message + " " + p.location[0]?.pointer), []);
});

test("what does not fit is found", () => {
  for (const [method, address, wrong] of [["POST", "/api/order", { do: "dance" }], ["POST", "/api/order", { camera: "kerb" }], ["POST", "/api/missed", { camera: "kerb" }], ["POST", "/api/sightings/3", { star: "yes" }], ["POST", "/api/plan", {}], ["GET", "/api/nothing"]])
    assert.notEqual(wrongRequest(method, address, { "x-tawny-change": "local" }, wrong && JSON.stringify(wrong)), "", method + " " + address);
  assert.notEqual(wrongRequest("POST", "/api/order", {}, '{"do":"arm"}'), "", "without the token");
  assert.notEqual(misfit(at("components", "schemas", "Asked"), { head: "camera" }), "");
  const good = { type: "second", time: "2027-03-13T21:04:07.250Z", max: 1, mean: 0.5 };
  told(good, "a second");
  for (const wrong of [{ ...good, more: 1 }, { ...good, max: "1" }, { ...good, time: "yesterday" }, { type: "second" }, { type: "minute" }])
    assert.throws(() => told(wrong, "a planted mistake"));
});

test("a hook, a destination and a broker are told of a sighting", async () => {
  const noted = () => existsSync(join(folder, "noted")) ? readFileSync(join(folder, "noted"), "utf8") : "";
  await until("a hook was told of all", () => ["began", "still", "clip", "ended", "lost", "stopped", "alarm", "daily"].every((w) => noted().includes(`"event":"${w}"`)), 240);
  await until("its numbers", () => /"series":"[0-9a-f]{16}"/.test(heard));
  spawnSync("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(brokerPort), "-t", "lane/hollin/ask", "-q", "1", "-m",
    JSON.stringify({ series: heard.match(/"series":"([0-9a-f]{16})"/)[1], numbers: [[99999, 99999]] })]);
  await until("what is gone", () => /"type":"gone"/.test(heard));
  spawnSync("mosquitto_pub", ["-h", "127.0.0.1", "-p", String(brokerPort), "-t", "lane/hollin/order", "-q", "1", "-m", JSON.stringify({ do: "settings", draft: '{"id":7}', signature: "" })]);
  await until("what became of settings", () => /"type":"answer","station":"hollin","id":7,"taken":false,"text":"its settings_from is another key"/.test(heard) && /"type":"settings"/.test(heard));
  await until("the broker, too", () => /"type":"began"/.test(heard) && /"type":"stored"/.test(heard) && /"phase":"end"/.test(heard) && /"type":"alarm"/.test(heard) && /"type":"daily"/.test(heard));
  assert.match(heard, /^lane\/hollin\/daily .*not all is well: .*board 71 °C/m);
  assert.match(noted(), /nothing is sent to gone any more.*"event":"alarm"/); // of a destination, too
  assert.ok(lines(noted(), "hook") >= 6);
  await until("a record", () => readdirSync(join(folder, "shed"), { recursive: true }).some((f) => f.endsWith("-record.json")));
  for (const f of readdirSync(join(folder, "shed"), { recursive: true }).filter((f) => f.endsWith("-record.json")))
    lines(readFileSync(join(folder, "shed", f), "utf8"), "record");
});

test("the tool's --json", async () => {
  run("disarm", "--for", "1h", "kerb");
  await until("it is disarmed", () => /"arming_until"/.test(run("status", "--json")));
  await until("one is stopped, one is lost", () => /"type":"stopped"/.test(run("status", "--json")) && /"state":"lost"/.test(run("status", "--json")));
  assert.ok(lines(run("status", "--json"), "status") >= 4);
  assert.ok(lines(run("sightings", "--json"), "sightings") >= 1);
  assert.equal(lines(run("sightings", "--json", "1"), "sighting"), 1);
  assert.ok(lines(run("sightings", "--happened", "--json"), "happened") >= 2);
  assert.ok(lines(run("sightings", "--values", "--json"), "values") >= 2);
  assert.ok(lines(run("outbox", "--list", "--json"), "outbox") >= 2);
  const rehearsed = run("rehearse", "--json", "--trace", "--why", "sim:kerb,size=320x180").split("\n").filter((l) => /"type":"(reading|sighting)"/.test(l));
  assert.ok(lines(rehearsed.join("\n"), "rehearsed") > 20);
  lines(run("plan", "--json").split("\n").filter((l) => l.includes('"type":"plan"')).join("\n"), "plan");
  await fetch(station.url + "api/order", { method: "POST", headers: { "X-Tawny-Change": "local" }, body: '{"do":"trigger","camera":"kerb"}' });
  assert.ok(lines(station.said().split("\n").slice(0, -1).filter((l) => l.startsWith("{")).join("\n"), "watch") >= 5);
});

// What to ask for, where an address needs more than its name.
const ASKED = {
  "/api/sightings": ["/api/sightings", "/api/sightings?brief=1"],
  "/api/sightings/{number}": ["/api/sightings/1"],
  "/api/readings/{camera}": ["/api/readings/kerb", "/api/readings/kerb?sharp=10,10,60,60"],
  "/api/traces/{camera}": ["/api/traces/kerb?from=" + (Date.now() - 3600e3)],
  "/api/zones/{camera}": ["/api/zones/kerb"],
  "/api/nights": ["/api/nights?from=" + (Date.now() - 86400e3) + "&until=" + Date.now()],
  "/api/settings": ["/api/settings", "/api/settings?head=camera&name=kerb"],
};
const POSTED = {
  "/api/order": { do: "snap", camera: "kerb" },
  "/api/sightings": { numbers: [1], star: true },
  "/api/sightings/{number}": { star: true },
  "/api/missed": { camera: "kerb", at: Date.now() - 60e3 },
  "/api/visit": {},
  "/api/proposals": { camera: "kerb" },
  "/api/try": { camera: "kerb", changes: [{ head: "camera", name: "kerb", key: "start_at", value: "1 %" }], from: Date.now() - 60e3, minute: true },
  "/api/settings": { changes: [{ head: "camera", name: "kerb", key: "start_at", value: "1 %" }] },
  "/api/outbox": { retry: "gone" },
  "/api/trial": { destination: "shed" },
  "/api/phones": { endpoint: "https://push.example/1", key: "BCVx", secret: "BTBZ", name: "Firefox, Linux" },
};

test("each answer of the page", async () => {
  let tried = 0;
  await fetch(station.url + "api/missed", { method: "POST", headers: { "X-Tawny-Change": "local" }, body: JSON.stringify(POSTED["/api/missed"]) });
  await fetch(station.url + "api/sightings/1", { method: "POST", headers: { "X-Tawny-Change": "local" }, body: JSON.stringify({ name: "Bufo bufo", count: 2, note: "a pair" }) });
  for (const [path, item] of Object.entries(api.paths))
    for (const method of ["get", "post"]) {
      const schema = item[method]?.responses["200"]?.content?.["application/json"]?.schema;
      if (!schema || /(log(in|out)|finds)$/.test(path)) continue;  // finds: network.test.mjs
      for (const address of method === "get" ? ASKED[path] || [path] : [path.replace("{number}", "1")]) {
        const asked = path === "/api/settings/file" ? { text: readFileSync(join(folder, "station.ini"), "utf8") + "# more\n" } : POSTED[path];
        const body = method === "post" ? JSON.stringify(asked) : undefined;
        const headers = body ? { "X-Tawny-Change": "local" } : {};
        assert.equal(wrongRequest(method, address, { "x-tawny-change": headers["X-Tawny-Change"] }, body), "");
        const answer = await fetch(station.url + address.slice(1), { method, body, headers });
        const text = await answer.text();
        assert.equal(answer.status, 200, method + " " + address + ": " + text);
        holds(at("paths", path, method, "responses", "200", "content", "application/json", "schema"), JSON.parse(text), method + " " + address);
        tried++;
      }
    }
  assert.ok(tried >= 20, "only " + tried + " were tried");
  const wrong = await fetch(station.url + "api/sightings/999999");
  assert.equal(wrong.status, 404);
  holds(at("components", "schemas", "Error"), await wrong.json(), "an error");
});

test("the guide shows what is really sent", () => {
  const guide = readFileSync(join(DOCS, "sending.md"), "utf8");
  const shown = guide.match(/^ {4}\{"type":.*$/gm) || [];
  assert.ok(shown.length >= 6, "only " + shown.length + " examples");
  for (const line of shown) told(JSON.parse(line), "docs/sending.md");
  const table = guide.slice(guide.indexOf("## The record of a sighting"), guide.indexOf("## Secrets"));
  const keys = new Set([...table.matchAll(/^\| (`.*?) \|/gm)].flatMap((m) => [...m[1].matchAll(/`(\w+)`/g)].map((k) => k[1])));
  for (const key of Object.keys(FORMS.Sighting.properties)) assert.ok(keys.has(key), "docs/sending.md does not say what " + key + " is");
  for (const key of keys) assert.ok(FORMS.Sighting.properties[key], "docs/sending.md tells of " + key + ", which no record has");
});

test("the end is told to the broker, and nothing is described that nobody gives", async () => {
  station.child.kill("SIGTERM");
  assert.equal(await station.ended, 0);
  await until("the broker was told of the end", () => /\/state \{"type":"station".*"state":"down"/.test(heard));
  assert.ok(lines(run("sightings", "--trace", "--camera", "kerb", "--json"), "trace") >= 2);
  const messages = heard.split("\n").slice(0, -1).filter((l) => !/^lane\/hollin\/(ask|order) /.test(l)).map((l) => l.slice(l.indexOf(" ") + 1));
  assert.ok(lines(messages.join("\n"), "broker") >= 6);
  // What this station has no cause to say.
  const apart = { Camera: ["sound"], Found: ["file"], Reading: ["file"], Plan: ["pre_event_bytes"], Digest: ["type", "station", "sightings"], Test: ["type", "station"], LogEntry: [], Item: ["text"], Sighting: ["sure"] };
  for (const [name, form] of Object.entries(FORMS)) {
    if (!form.properties?.type || name === "Nearby") continue;
    const missing = Object.keys(form.properties).filter((k) => !seen.get(name).has(k) && !apart[name]?.includes(k));
    assert.deepEqual(missing, [], name + " is described with what was never seen");
  }
});
