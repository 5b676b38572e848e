// Files that are kept or exported, judged by programs that others read them with: MP4, CSV,
// the data package, and what programs are linked with.
import assert from "node:assert/strict";
import { after, before, test } from "node:test";
import { spawnSync } from "node:child_process";
import { cpSync, mkdtempSync, readFileSync, readdirSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { parse } from "csv-parse/sync";
import { createFile, Log } from "mp4box";
import { PackageURL } from "packageurl-js";
import { DOCS } from "./api.mjs";
import { readPackage } from "./package.mjs";
import { TOOL } from "./station.mjs";

const SETTINGS = `# Hollin Lane toad crossing
[station]
name = hollin
[cameras]
pace = no
fps = 5
latitude = 52.100001
longitude = -1.25
[camera kerb]
source = sim:kerb,size=240x136
stills = first
timed_still = 10 s
timed_clip = 5 s every 1 min
continuous = yes
segment = 1 min
caption = %H:%M:%S {camera}
[camera mere]
source = sim:mere,size=240x136
clip_video = mjpeg
`;

let folder;
const run = (...words) => {
  const o = spawnSync(TOOL, words, { cwd: folder, env: { ...process.env, XDG_RUNTIME_DIR: folder }, encoding: "utf8", maxBuffer: 1 << 26 });
  assert.equal(o.status, 0, words.join(" ") + ": " + o.stderr);
  return o.stdout;
};
const captures = (ending) => readdirSync(join(folder, "captures"), { recursive: true }).filter((f) => f.endsWith(ending)).sort();

before(() => {
  folder = mkdtempSync(join(tmpdir(), "tawny-formats-"));
  writeFileSync(join(folder, "station.ini"), SETTINGS);
  run("watch");
  run("sightings", "--mark", "nothing", "2");
  run("sightings", "--name", "Bufo bufo", "--count", "2", "--note", "by the <drain>", "3");
  run("sightings", "--mark", "right", "1");
  run("sightings", "--camtrap", "package");
});

after(() => rmSync(folder, { recursive: true, force: true }));

// ---- MP4 -----------------------------------------------------------------------------

// What the parser makes of a file, and what it complains of.
function readMp4(bytes) {
  const said = [], buffer = new Uint8Array(bytes).buffer;
  const of = { warn: Log.warn, error: Log.error };
  for (const kind of Object.keys(of)) Log[kind] = (where, text) => said.push(kind + " " + where + " " + text);
  const file = createFile();
  let info = null;
  file.onReady = (i) => { info = i; };
  file.onError = (where, text) => said.push("error " + where + " " + text);
  buffer.fileStart = 0;
  try { file.appendBuffer(buffer, true); file.flush(); } catch (e) { said.push("error " + e.message); }
  Object.assign(Log, of);
  return { file, info, said };
}

// Where the fragments say that they begin, against where what was before them ends.
function startsWrong(file, samples) {
  let first = 0;
  return file.boxes.filter((b) => b.type === "moof").some(({ trafs: [traf] }) => {
    const wrong = traf.tfdt.baseMediaDecodeTime !== samples[first]?.dts;
    first += traf.truns.reduce((sum, t) => sum + t.sample_count, 0);
    return wrong;
  });
}

// All that is wrong with a clip; nothing if it is whole.
function mp4Faults(bytes) {
  const { file, info, said } = readMp4(bytes), faults = [...said];
  const wrong = (is, what) => { if (is) faults.push(what); };
  wrong(!info, "no header");
  if (!info) return faults;
  const track = info.tracks[0], samples = file.moov.traks[0].samples;
  const numberAt = (at) => at + 4 <= bytes.length ? bytes.readUInt32BE(at) : 0;
  const boxes = file.boxes.map((b) => b.type);
  wrong(info.tracks.length !== 1 || !track.video, "not one track of video");
  wrong(!/^(avc1\.|mp4v)/.test(track?.codec), "codec " + track?.codec);
  wrong(file.boxes.reduce((sum, b) => sum + b.size, 0) !== bytes.length, "its boxes are not all of the file");
  wrong(boxes[0] !== "ftyp" || boxes[1] !== "moov" || boxes.at(-1) !== "mfra", "boxes " + boxes.join(" ").slice(0, 80));
  wrong(boxes.slice(2, -1).some((b, i) => b !== (i % 2 ? "mdat" : "moof")), "fragments out of order");
  if (!samples?.length) return [...faults, "no picture"];
  wrong(samples[0].dts !== 0 || !samples[0].is_sync, "the first picture is no key picture at 0");
  wrong(samples.some((s, i) => i > 0 && s.dts !== samples[i - 1].dts + samples[i - 1].duration), "there are gaps");
  wrong(startsWrong(file, samples), "a fragment begins at another time");
  wrong(samples.some((s) => s.size === 0 || s.offset + s.size > bytes.length), "a picture lies outside");
  wrong(samples.at(-1).dts + samples.at(-1).duration !== track.samples_duration, "its length is another");
  if (track.codec === "mp4v") wrong(samples.some((s) => numberAt(s.offset) >>> 16 !== 0xffd8), "a picture is no JPEG");
  else wrong(samples.some((s) => numberAt(s.offset) + 4 > s.size), "a picture has no NAL unit of its length");
  return faults;
}

// Both tracks, by themselves and against each other.
function soundFaults(bytes) {
  const { info, file, said } = readMp4(bytes), found = [...said];
  const wrong = (is, what) => { if (is) found.push(what); };
  const sound = info.tracks.find((t) => t.audio), pictures = info.tracks.find((t) => t.video);
  wrong(info.tracks.length !== 2 || !sound || !pictures, "not a track of video and one of sound");
  if (found.length) return found;
  const samples = file.getTrackById(sound.id).samples, rate = sound.timescale;
  wrong(sound.codec !== "mp4a.40.2", "codec " + sound.codec);
  wrong(sound.audio.sample_rate !== 48000 || sound.audio.channel_count < 1, "form " + JSON.stringify(sound.audio));
  wrong(samples.length < 10 || samples[0].dts !== 0, "it begins at " + samples[0]?.dts);
  wrong(samples.some((s, i) => i > 1 && s.dts !== samples[i - 1].dts + samples[i - 1].duration), "its packets leave gaps");
  wrong(samples.some((s, i) => i > 0 && i + 1 < samples.length && s.duration !== 1024), "packets of other lengths");
  const off = sound.samples_duration / rate - pictures.samples_duration / pictures.timescale;
  wrong(Math.abs(off) > 0.15, "it is " + off.toFixed(3) + " s longer than the pictures");
  return found;
}

test("clips and segments with sound, by mp4box.js", () => {
  const heard = mkdtempSync(join(tmpdir(), "tawny-heard-"));
  const made = spawnSync("ffmpeg", ["-v", "error", "-f", "lavfi", "-i", "testsrc2=size=320x180:rate=10:duration=24", "-f", "lavfi", "-i", "sine=frequency=800:sample_rate=48000:duration=24", "-c:v", "mjpeg", "-c:a", "pcm_s16le", join(heard, "a.mkv")], { encoding: "utf8" });
  assert.equal(made.status, 0, made.stderr);
  writeFileSync(join(heard, "station.ini"), "[station]\nstore = captures\nkeep_free = 0\n[camera kerb]\nsource = file:a.mkv\nsound = stream\npace = no\ncontinuous = yes\nsegment = 10 s\nsettle = 1 s\n[camera mere]\nsource = file:a.mkv\nsound = stream\npace = no\ncontinuous = yes\nsegment = 10 s\nclip_video = mjpeg\narmed = no\n");
  const o = spawnSync(TOOL, ["watch"], { cwd: heard, env: { ...process.env, XDG_RUNTIME_DIR: heard }, encoding: "utf8" });
  assert.equal(o.status, 0, o.stdout + o.stderr);
  const files = readdirSync(join(heard, "captures"), { recursive: true }).filter((f) => f.endsWith(".mp4"));
  assert.ok(files.filter((f) => f.endsWith("-segment.mp4")).length >= 4, files.join(" "));
  for (const f of files) assert.deepEqual(soundFaults(readFileSync(join(heard, "captures", f))), [], f);
  // What is no such file is found.
  const mute = captures("-segment.mp4")[0];
  assert.notDeepEqual(soundFaults(readFileSync(join(folder, "captures", mute))), []);
  rmSync(heard, { recursive: true, force: true });
});

test("each kind of clip and reel, by mp4box.js", () => {
  run("reel", "clips.mp4", "--clips", "--camera", "kerb");
  run("reel", "lapse.mp4", "--camera", "kerb");
  const files = [...captures(".mp4").map((f) => join("captures", f)), "clips.mp4", "lapse.mp4"];
  for (const kind of ["-clip.mp4", "-captioned-clip.mp4", "-timed-clip.mp4", "-segment.mp4"])
    assert.ok(files.some((f) => f.endsWith(kind)), kind);
  const codecs = new Set();
  for (const f of files) {
    const bytes = readFileSync(join(folder, f));
    assert.deepEqual(mp4Faults(bytes), [], f);
    codecs.add(readMp4(bytes).info.tracks[0].codec.slice(0, 4));
  }
  assert.deepEqual([...codecs].sort(), ["avc1", "mp4v"]);
});

test("a clip says when it was taken, and how long it is", () => {
  const told = run("sightings", "--json", "1").split("\n").filter(Boolean).map((l) => JSON.parse(l))[0];
  const clip = told.captures.find((c) => c.kind === "clip");
  const { info } = readMp4(readFileSync(join(folder, "captures", clip.file)));
  assert.equal(+info.created, Math.floor(+new Date(clip.start) / 1000) * 1000);
  const seconds = info.tracks[0].samples_duration / info.tracks[0].timescale;
  const end = (new Date(told.end) - new Date(clip.start)) / 1000;
  assert.ok(seconds >= end && seconds < end + 60, seconds + " s for " + end);
});

test("a damaged clip is found", () => {
  const bytes = readFileSync(join(folder, "captures", captures("-clip.mp4")[0]));
  const change = (at, to) => { const b = Buffer.from(bytes); b.writeUInt32BE(to, at); return b; };
  const moof = bytes.indexOf("moof") - 4, trun = bytes.indexOf("trun"), tfdt = bytes.indexOf("tfdt", bytes.indexOf("tfdt") + 4);
  for (const [what, damaged] of [["cut", bytes.subarray(0, bytes.length * 0.6 | 0)], ["a wrong size", change(moof, 7)], ["a picture more", change(trun + 8, bytes.readUInt32BE(trun + 8) + 1)], ["a fragment later", change(tfdt + 12, bytes.readUInt32BE(tfdt + 12) + 1000)]])
    assert.notDeepEqual(mp4Faults(damaged), [], what);
});

// ---- CSV -----------------------------------------------------------------------------

// By RFC 4180: each line ends with CR and LF, each has as many fields, and quotes are right.
function readCsv(text) {
  assert.ok(!/[^\r]\n/.test(text) && text.endsWith("\r\n"), "a line does not end with CR LF: " + JSON.stringify(text.slice(0, 200)));
  const rows = parse(text, { record_delimiter: "\r\n" });
  return rows.slice(1).map((r) => Object.fromEntries(rows[0].map((name, i) => [name, r[i]])));
}

test("CSV is the same everywhere", () => {
  const listed = readCsv(run("sightings", "--csv"));
  const told = run("sightings", "--json").split("\n").filter(Boolean).map((l) => JSON.parse(l)).filter((o) => o.type === "sighting");
  assert.deepEqual(listed.map((r) => [+r.number, r.camera, r.why, r.start]), told.map((o) => [o.number, o.camera, o.why, o.start]));
  assert.ok(readCsv(run("sightings", "--trace", "--camera", "kerb", "--day", told[0].start.slice(0, 10))).length > 100);
  for (const odd of ['a "quoted" name.mp4', "kerb, and mere.mp4"]) {
    cpSync(join(folder, "captures", captures("-001-clip.mp4")[0]), join(folder, odd));
    const readings = readCsv(run("rehearse", "--trace", odd));
    assert.ok(readings.length > 100 && readings.every((r) => r.file.endsWith(odd) && r.state !== ""));
  }
});

// ---- the data package ----------------------------------------------------------------

const TABLES = ["deployments", "media", "observations"];

// A copy of its tables with a mistake in them, and what is said of it.
async function plant(change) {
  const from = join(folder, "package"), place = mkdtempSync(join(folder, "planted-"));
  const descriptor = JSON.parse(readFileSync(join(from, "datapackage.json"), "utf8"));
  const tables = Object.fromEntries(TABLES.map((name) => [name, readCsv(readFileSync(join(from, name + ".csv"), "utf8"))]));
  change(tables, descriptor);
  for (const name of TABLES) {
    const line = (values) => values.map((v) => JSON.stringify(v).replaceAll('\\"', '""')).join(",") + "\r\n";
    writeFileSync(join(place, name + ".csv"), line(Object.keys(tables[name][0])) + tables[name].map((r) => line(Object.values(r))).join(""));
    const schema = JSON.parse(readFileSync(join(from, name + "-table-schema.json"), "utf8"));
    assert.equal(schema.fields[0].constraints.unique, true);
    delete schema.primaryKey; // that a field is unique is enough
    writeFileSync(join(place, name + "-table-schema.json"), JSON.stringify(schema));
  }
  writeFileSync(join(place, "datapackage.json"), JSON.stringify(descriptor));
  return readPackage(place).then((p) => p.faults, (e) => [e.message]);
}

test("the export has what there is, and holds to its schemas", async () => {
  const { faults, read } = await readPackage(join(folder, "package"));
  assert.deepEqual(faults, []);
  assert.deepEqual(read.deployments.map((d) => [d.deploymentID, d.latitude]).sort(), [["kerb", 52.100001], ["mere", 52.100001]]);
  const told = run("sightings", "--json").split("\n").filter(Boolean).map((l) => JSON.parse(l)).filter((o) => o.type === "sighting");
  assert.equal(read.observations.length, told.length);
  const marked = Object.fromEntries(read.observations.map((o) => [o.observationID, o.observationType]));
  assert.deepEqual([marked.o1, marked.o2, marked.o3], ["unclassified", "blank", "animal"]);
  const named = read.observations.find((o) => o.observationID === "o3");
  assert.deepEqual([named.scientificName, named.count, named.classificationMethod, named.observationComments.startsWith("by the <drain>; ")], ["Bufo bufo", 2, "human", true]);
  const sidecars = readdirSync(join(folder, "package"), { recursive: true }).filter((f) => f.endsWith(".jpg.xmp")).map((f) => readFileSync(join(folder, "package", f), "utf8"));
  assert.ok(sidecars.length > 0);
  for (const s of sidecars) assert.ok(s.includes("<dwc:scientificName>Bufo bufo</dwc:scientificName>") && s.includes("by the &lt;drain&gt;"), s);
  const taken = told.flatMap((o) => JSON.parse(run("sightings", "--json", String(o.number))).captures).filter((c) => !c.kind.startsWith("captioned"));
  for (const c of taken) {
    const m = read.media.find((m) => m.filePath === c.file);
    assert.deepEqual([m?.deploymentID.deploymentID, +m?.timestamp], [c.camera, Math.floor(+new Date(c.start) / 1000) * 1000], c.file);
  }
  for (const m of read.media) {
    const bytes = readFileSync(join(folder, "package", m.filePath));
    if (m.fileMediatype === "video/mp4") assert.deepEqual(mp4Faults(bytes), [], m.filePath);
    else assert.equal(bytes.readUInt16BE(0), 0xffd8, m.filePath);
  }
  assert.deepEqual([...new Set(read.media.map((m) => m.captureMethod))].sort(), ["activityDetection", "timeLapse"]);
});

test("mistakes in an export are found", async () => {
  const planted = {
    "a place that is none": (d) => { d.deployments[0].latitude = "91"; },
    "two of the same number": (d) => { d.media[1].mediaID = d.media[0].mediaID; },
    "a camera that is not there": (d) => { d.observations[0].deploymentID = "shed"; },
    "no time": (d) => { d.observations[0].eventStart = ""; },
    "a time of another form": (d) => { d.media[0].timestamp = "2027-03-13 20:30:09"; },
    "a file outside": (d) => { d.media[0].filePath = "../secret"; },
    "another kind of file": (d) => { d.media[0].fileMediatype = "text/plain"; },
    "a word that is none": (d) => { d.observations[0].observationType = "toad"; },
    "no animal at all": (d) => { d.observations[0].count = "0"; },
    "a column too few": (d) => { for (const r of d.media) delete r.filePath; },
    "a role that nobody has": (_, o) => { o.contributors[0].role = "toad"; },
    "no tables": (_, o) => { delete o.resources; },
  };
  assert.deepEqual(await plant(() => {}), []);
  for (const [what, change] of Object.entries(planted)) assert.notDeepEqual(await plant(change), [], what);
});

// ---- what programs are linked with -------------------------------------------------------

const ROOT = join(DOCS, "..");
const makeSbom = (place) => spawnSync("scripts/make-sbom", ["tawny", place, "libjs-chart.js"], { cwd: ROOT, encoding: "utf8", env: { ...process.env, SOURCE_DATE_EPOCH: "1800000000" } });

// What npm itself says of a package without anything: of the same standard.
function sampleSbom() {
  const place = mkdtempSync(join(folder, "npm-"));
  writeFileSync(join(place, "package.json"), '{"name":"x","version":"1.0.0","license":"MIT"}');
  writeFileSync(join(place, "package-lock.json"), '{"name":"x","version":"1.0.0","lockfileVersion":3,"packages":{"":{"name":"x","version":"1.0.0"}}}');
  const said = spawnSync("npm", ["sbom", "--sbom-format=spdx", "--package-lock-only"], { cwd: place, encoding: "utf8" });
  return JSON.parse(said.stdout);
}

test("what a program is linked with is told as SPDX", () => {
  const place = join(folder, "staged", "tawny"), binary = join(place, "tawny");
  cpSync(TOOL, binary, { recursive: true });
  const made = makeSbom(place), sample = sampleSbom();
  assert.equal(made.status, 0, made.stderr);
  assert.equal(makeSbom(place).stdout, made.stdout, "twice the same");
  const told = JSON.parse(made.stdout), ids = new Set(["SPDXRef-DOCUMENT", ...told.packages.map((p) => p.SPDXID)]);
  const wants = (of, like, where) => { for (const key of Object.keys(like).filter((k) => !/packageFileName|primaryPackagePurpose/.test(k))) assert.ok(key in of, where + " has no " + key); };
  wants(told, sample, "the document");
  wants(told.creationInfo, sample.creationInfo, "what made it");
  assert.equal(told.spdxVersion, sample.spdxVersion);
  assert.equal(ids.size, told.packages.length + 1);
  for (const p of told.packages) {
    wants(p, sample.packages[0], p.name);
    assert.match(p.SPDXID, /^SPDXRef-[A-Za-z0-9.-]+$/);
    const purl = PackageURL.fromString(p.externalRefs[0].referenceLocator);
    assert.deepEqual([purl.type, purl.namespace, purl.name, purl.version], ["deb", "debian", p.name, p.versionInfo]);
  }
  for (const r of told.relationships) assert.ok(ids.has(r.spdxElementId) && ids.has(r.relatedSpdxElement), JSON.stringify(r));
  const how = Object.fromEntries(told.relationships.map((r) => [r.relatedSpdxElement.replace("SPDXRef-Package-", ""), r.relationshipType]));
  assert.deepEqual([how.libc6, how["libsqlite3-0"], how["libjs-chart.js"], how.tawny], ["DYNAMIC_LINK", "DYNAMIC_LINK", "CONTAINS", "DESCRIBES"]);
  const bytes = readFileSync(binary);
  bytes.write("libjanssun", bytes.indexOf("libjansson.so"));
  writeFileSync(binary, bytes);
  const unknown = makeSbom(place);
  assert.notEqual(unknown.status, 0);
  assert.match(unknown.stderr, /libjanssun\.so\.4 is of no package/);
});
