// Sightings: a day as a strip for each camera, a list, and one of them in full.
import { $, agree, along, ask, button, clock, complain, count, fillCameras, make, mayRun, notice, percent, shape, size, state } from "./common.js";
import { sayMissed, showMissed } from "./missed.js";
import * as several from "./several.js";

const PAGE = 200;
const view = { id: 0, rows: new Map(), from: 0, until: 0, earliest: 0, more: false, loading: false, destinations: [], names: [], undo: null, brief: new Map(),
  asked: 0,          // which list is shown: answers for an earlier one come too late
  gone: new Set() }; // deleted a moment ago: answers from before still have them
const GONE_MS = 20000;

const address = (file) => "/captures/" + file.split("/").map(encodeURIComponent).join("/");
const day = () => $("day").value;

function dateText(d) {
  return d.getFullYear() + "-" + String(d.getMonth() + 1).padStart(2, "0") + "-" + String(d.getDate()).padStart(2, "0");
}

// All days are searched, not one of them looked at.
const searching = () => !$("search-form").hidden;

// Local days are not always 24 hours long.
function setSpan() {
  if (searching()) { view.from = 0; view.until = Date.UTC(2100, 0); return; }  // a clock may have been ahead
  if (!day()) $("day").value = dateText(new Date());
  const from = new Date(day() + "T00:00:00"), next = new Date(from);
  next.setDate(next.getDate() + 1);
  view.from = from.getTime();
  view.until = next.getTime();
}

function turnSearch(on) {
  $("search-form").hidden = !on;
  $("search").setAttribute("aria-pressed", String(on));
  if (on) $("search-name").focus();
}

function otherDay(by) {
  turnSearch(false);
  const d = new Date(day() + "T12:00:00");
  d.setDate(d.getDate() + by);
  $("day").value = dateText(d);
  list();
}

// ---- strips

function stripPath(trace) {
  const span = view.until - view.from;
  let d = "", open = false;
  trace.ppm.forEach((p, i) => {
    const x = (1000 * (trace.from + i * trace.step_s * 1000 - view.from) / span).toFixed(1);
    if (p < 0) { if (open) d += "V40"; open = false; return; }
    d += (open ? "L" : "M" + x + " 40L") + x + " " + (40 - 40 * Math.min(1, along(p / 1e4) * 3)).toFixed(1);
    open = true;
  });
  return d;
}

function makeStrip(camera) {
  const svg = shape("svg", { viewBox: "0 0 1000 40", preserveAspectRatio: "none", class: "strip", "aria-hidden": "true" });
  const trace = shape("path", { class: "trace" }), bands = shape("g", {}), missed = shape("g", {});
  svg.append(trace, bands, missed);
  svg.addEventListener("click", (event) => {
    const r = svg.getBoundingClientRect();
    nearest(camera, view.from + (view.until - view.from) * (event.clientX - r.left) / r.width);
  });
  const hours = make("div", { class: "hours", "aria-hidden": "true" }, ...[0, 6, 12, 18, 24].map((h) => make("span", {}, h + " h")));
  const element = make("div", { class: "strip-row" }, make("span", { class: "strip-name" }, camera), make("div", { class: "strip-box" }, svg, hours));
  ask("/api/traces/" + encodeURIComponent(camera) + "?from=" + view.from + "&until=" + view.until + "&points=720")
    .then((a) => trace.setAttribute("d", stripPath(a))).catch(() => {});
  return { element, bands, missed, drawn: new Map() };
}

let strips = new Map();
function showStrips() {
  const wanted = searching() ? [] : state.cameras.map((c) => c.camera).filter((n) => !$("camera").value || n === $("camera").value);
  strips = new Map(wanted.map((n) => [n, makeStrip(n)]));
  $("strips").replaceChildren(...[...strips.values()].map((s) => s.element));
}

// A sighting on its strip; again: it has ended, or got a star.
function setBand([id, camera, start, end, starred]) {
  const strip = strips.get(camera);
  if (!strip) return;
  let band = strip.drawn.get(id);
  if (!band) {
    band = shape("rect", { y: 0, height: 40, "data-id": id });
    strip.drawn.set(id, band);
    strip.bands.append(band);
  }
  const span = view.until - view.from;
  band.setAttribute("class", "band" + (starred ? " starred" : "") + (id === view.id ? " chosen" : ""));
  band.setAttribute("x", (1000 * (start - view.from) / span).toFixed(2));
  band.setAttribute("width", Math.max(2, 1000 * ((end || Date.now()) - start) / span).toFixed(2));
}

const briefOf = (s) => [s.number, s.camera, new Date(s.start).getTime(), s.end ? new Date(s.end).getTime() : 0, s.starred];

// All of a day, also those that the list has not fetched yet.
async function loadBands() {
  const asked = view.asked, found = (await ask("/api/sightings?brief=1&" + filter(view.until))).sightings;
  if (asked !== view.asked) return;
  view.brief = new Map(found.filter((b) => !view.gone.has(b[0])).map((b) => [b[0], b]));
  for (const strip of strips.values()) { strip.bands.replaceChildren(); strip.drawn.clear(); }
  for (const b of view.brief.values()) setBand(b);
}

function nearest(camera, t) {
  let best = null;
  for (const b of view.brief.values())
    if (b[1] === camera && (!best || Math.abs(b[2] - t) < Math.abs(best[2] - t))) best = b;
  if (!best) return;
  const row = view.rows.get(best[0]);
  if (row) row.element.scrollIntoView({ block: "nearest" });
  showSighting(best[0]);
}

// ---- the list: the newest first, some at a time

function makeRow(s) {
  const image = s.stills > 0 ? make("img", { alt: "", loading: "lazy", src: "/api/thumbs/" + s.number }) : make("span", { class: "none" });
  const text = make("span", {}, make("strong", {}, (searching() ? dateText(new Date(s.start)) + " " : "") + clock(s.start) + " " + s.camera), s.starred ? " \u2605 starred" : "", s.mark === "none" ? "" : " \u2013 " + s.mark, s.name ? " \u2013 " + (s.count ? s.count + " " : "") + s.name : "", make("br", {}),
    make("small", {}, (s.end ? Math.max(0, (new Date(s.end) - new Date(s.start)) / 1000).toFixed(0) + " s" : "going on") + ", at most " + percent(s.peak) + " %, " + size(s.bytes)));
  return make("li", {}, several.box(s.number), make("button", { type: "button", onclick: () => showSighting(s.number), "data-id": s.number }, image, text));
}

function filter(until) {
  const all = new URLSearchParams({ from: view.from, until, camera: $("camera").value, starred: $("starred").checked ? "1" : "0" });
  for (const key of ["name", "hours", "larger", "mark"]) if (searching() && $("search-" + key).value.trim()) all.set(key, $("search-" + key).value.trim());
  return all;
}

async function load() {
  if (view.loading) return;
  const asked = view.asked;
  view.loading = true;
  try {
    const found = (await ask("/api/sightings?most=" + PAGE + "&" + filter(view.earliest))).sightings.reverse();
    if (asked !== view.asked) return;
    view.more = found.length === PAGE;
    for (const s of found) {
      if (view.rows.has(s.number) || view.gone.has(s.number)) continue;
      const element = makeRow(s);
      view.rows.set(s.number, { s, element });
      $("list").append(element);
      view.earliest = Math.min(view.earliest, Math.floor(new Date(s.start).getTime()) + 1);
    }
    sayFound();
  } catch (e) {
    if (asked !== view.asked) return;
    view.more = false;
    complain(e);
  }
  view.loading = false;
}

// What has come since, or is over by now: a sighting that runs has no clip yet. One that is there is not taken from who plays it.
async function update() {
  if (document.hidden || view.loading || Date.now() > view.until + 60000) return;
  const asked = view.asked, all = (await ask("/api/sightings?most=20&" + filter(view.until))).sightings;
  if (asked !== view.asked) return;
  const found = all.filter((s) => !view.gone.has(s.number));
  const before = [...view.rows];
  let fresh = [];
  for (const s of found) {
    const known = view.rows.get(s.number);
    if (known && JSON.stringify(known.s) !== JSON.stringify(s)) { replaceRow(s); if (view.id === s.number && !$("detail").querySelector("video")) showSighting(s.number); }
    if (!known) fresh = [[s.number, { s, element: makeRow(s) }], ...fresh];
  }
  if (fresh.length === 0) return;
  view.rows = new Map([...fresh, ...before]);
  $("list").prepend(...fresh.map(([, row]) => row.element));
  for (const [id, row] of fresh) { view.brief.set(id, briefOf(row.s)); setBand(briefOf(row.s)); }
  if (before.length === 0) showSighting(fresh[0][0]);
  sayFound();
}

const sayFound = () => { $("found").textContent = count(Math.max(view.rows.size, view.brief.size), "sighting"); };

const missed = () => showMissed({ from: view.from, until: view.until }, $("camera").value, strips);

// The time that is looked at: of the chosen sighting, now, or the middle of a day that was.
function sayOneWasMissed() {
  const row = view.rows.get(view.id), now = Date.now();
  const t = row ? new Date(row.s.start).getTime() : now < view.until ? now : (view.from + view.until) / 2;
  sayMissed(row ? row.s.camera : $("camera").value, t, missed);
}

async function list() {
  const asked = ++view.asked;
  view.loading = false;
  setSpan();
  view.rows.clear();
  view.earliest = view.until;
  $("list").replaceChildren();
  $("detail").replaceChildren();
  showStrips();
  await Promise.all([load(), loadBands().catch(complain), missed().catch(complain)]);
  if (asked !== view.asked) return;
  sayFound();
  several.shown();
  const first = view.rows.keys().next();
  if (first.done) $("detail").textContent = searching() ? "Nothing like that was seen." : "Nothing was seen that day.";
  else showSighting(first.value);
}

// ---- one

function parts(s) {
  const clip = s.captures.find((c) => c.file.endsWith(".mp4")), still = s.captures.find((c) => c.file.endsWith(".jpg"));
  const title = s.camera + ", sighting " + s.number + ", " + new Date(s.start).toLocaleString([], { hour12: false });
  const shown = [make("h2", { class: "h6" }, title), make("p", {}, make("small", {}, s.why))];
  if (clip) {
    const video = make("video", Object.assign({ controls: true, preload: "metadata", src: address(clip.file), "aria-label": "Clip of the sighting" }, still ? { poster: address(still.file) } : {}));
    video.addEventListener("error", () => video.replaceWith(still ? make("img", { src: address(still.file), alt: "Still of the sighting" }) : "",
      make("p", { class: "small" }, "This browser cannot play the clip; save it, or choose clip_video = h264.")));
    shown.unshift(video);
  } else if (still) shown.unshift(make("img", { src: address(still.file), alt: "Still of the sighting" }));
  return shown;
}

// What the user says of it: pressed once more, nothing is said.
const marks = (s) => [["right", "Right"], ["nothing", "Nothing there"]].map(([name, words]) =>
  button(words, () => mark(s, s.mark === name ? "none" : name), { id: "mark-" + name, "aria-pressed": String(s.mark === name) }));

// Who it was: by name, number and a note; keys give names of the user's list, and those of late.
function naming(s) {
  if (!mayRun()) return s.name ? make("p", {}, make("strong", {}, s.name), s.count ? ", " + s.count : "", s.note ? make("br", {}) : "", s.note || "") : "";
  const name = make("input", { id: "named", class: "form-control form-control-sm", list: "named-before", value: s.name || "", placeholder: "Who was it?", maxlength: 200, autocomplete: "off", "aria-label": "Who was it?" });
  const count = make("input", { id: "named-count", class: "form-control form-control-sm", type: "number", min: 0, max: 100000, value: s.count || "", placeholder: "How many?", "aria-label": "How many?" });
  const note = make("input", { id: "named-note", class: "form-control form-control-sm", value: s.note || "", placeholder: "A note", maxlength: 1000, "aria-label": "A note" });
  const form = make("form", { class: "bar naming" }, name, count, note, make("button", { type: "submit", class: "btn btn-sm", id: "named-save" }, "Say so"));
  form.addEventListener("submit", (event) => { event.preventDefault(); giveName(s, { name: name.value.trim(), count: Number(count.value) || 0, note: note.value.trim() }); });
  const keys = namesByKey(), quick = make("div", { class: "bar small" }, ...[...keys].map(([key, n]) =>
    button(key + "  " + (n.common || n.name), () => giveName(s, { name: n.name, count: s.count || 0, note: s.note || "" }), { class: "btn btn-sm", "data-key": key, title: n.name, "aria-pressed": String(s.name === n.name) })));
  const by = s.named_by && s.named_by !== "human" ? make("p", { class: "small" }, "So says " + s.named_by + (s.sure ? ", " + s.sure.toFixed(0) + " % sure." : ".")) : "";
  return make("div", {}, form, make("datalist", { id: "named-before" }, ...view.names.map((n) => make("option", { value: n.name }, n.common || ""))), quick, by);
}

// Keys that the list gives, but for those that do something else; then 1 to 9 for names of late.
function namesByKey() {
  const taken = new Set(["j", "k", "s", "r", "n", "x", "u", "h", "l", "p", ".", ","]), keys = new Map();
  for (const n of view.names) if (n.key && !taken.has(n.key) && !keys.has(n.key)) keys.set(n.key, n);
  let next = 1;
  for (const n of view.names.filter((m) => !m.key && m.named > 0)) if (next <= 9) keys.set(String(next++), n);
  return keys;
}

async function giveName(s, said) {
  try {
    await ask("/api/sightings/" + s.number, said);
    const row = view.rows.get(s.number);
    if (row) replaceRow(Object.assign({}, row.s, { name: said.name, count: said.count }));
    view.names = (await ask("/api/names")).names;
    await showSighting(s.number);
  } catch (e) { complain(e); }
}

function tools(s) {
  const bar = make("div", { class: "bar acts" });
  if (mayRun()) {
    bar.append(button(s.starred ? "Take the star off" : "Star", () => star(s), { id: "star", "aria-pressed": String(s.starred) }), ...marks(s), button("Delete", () => remove(s), { id: "delete" }));
    for (const d of view.destinations) bar.append(button("Send again to " + d, () => send(s, d)));
  }
  for (const c of s.captures) bar.append(make("a", { class: "btn btn-sm", href: address(c.file) + "?save=1" }, "Save " + c.kind + " (" + size(c.bytes) + ")"));
  return bar;
}

async function showSighting(id) {
  view.id = id;
  for (const b of $("list").querySelectorAll("[aria-current=true]")) b.removeAttribute("aria-current");
  for (const b of document.querySelectorAll("#list button[data-id='" + id + "']")) b.setAttribute("aria-current", "true");
  for (const b of document.querySelectorAll(".band.chosen")) b.classList.remove("chosen");
  for (const b of document.querySelectorAll(".band[data-id='" + id + "']")) b.classList.add("chosen");
  try {
    const s = await ask("/api/sightings/" + id);
    if (view.id !== id) return;
    const sent = s.sent + s.unsent > 0 ? [make("p", { class: "small" }, s.sent + " sent, " + s.unsent + " waiting to be.")] : [];
    $("detail").replaceChildren(...parts(s), naming(s), tools(s), ...sent);
    $("detail").dataset.number = id;
  } catch (e) { complain(e); }
}

/** Go to one of them, whichever day it is of. */
export async function open(number) {
  const s = await ask("/api/sightings/" + number);
  turnSearch(false);
  $("day").value = dateText(new Date(s.start));
  $("camera").value = "";
  $("starred").checked = false;
  await list();
  await showSighting(number);
  const row = view.rows.get(number);
  if (row) row.element.scrollIntoView({ block: "nearest" });
}

// What can be done with it, anew: the clip stays where it is.
async function showTools(id, focus = "star") {
  const s = await ask("/api/sightings/" + id), bar = $("detail").querySelector(".acts");
  if (view.id === id && bar) { bar.replaceWith(tools(s)); $(focus).focus(); }
}

function replaceRow(s) {
  const row = view.rows.get(s.number);
  if (!row) return;
  const element = makeRow(s);
  if (view.id === s.number) element.querySelector("button").setAttribute("aria-current", "true");
  row.element.replaceWith(element);
  view.rows.set(s.number, { s, element });
  view.brief.set(s.number, briefOf(s));
  setBand(briefOf(s));
}

async function star(s) {
  try { await ask("/api/sightings/" + s.number, { star: !s.starred }); replaceRow(Object.assign({}, view.rows.get(s.number).s, { starred: !s.starred })); await showTools(s.number); }
  catch (e) { complain(e); }
}

async function mark(s, name) {
  try {
    await ask("/api/sightings/" + s.number, { mark: name });
    replaceRow(Object.assign({}, view.rows.get(s.number).s, { mark: name }));
    await showTools(s.number, "mark-" + (name === "none" ? s.mark : name));
  } catch (e) { complain(e); }
}

async function send(s, destination) {
  try { await ask("/api/sightings/" + s.number, { send: destination }); notice("It waits for " + destination + ", and goes there next."); showSighting(s.number); }
  catch (e) { complain(e); }
}

// ---- deleting: asked once, undone for ten seconds

function offerUndo(numbers, words) {
  clearInterval(view.undo && view.undo.timer);
  let left = 10;
  const b = button("", () => undo(), { id: "undo" });
  const say = () => { b.textContent = "Undo (" + left + ")"; if (left-- <= 0) { clearInterval(view.undo.timer); view.undo = null; $("undo-box").replaceChildren(); } };
  view.undo = { numbers, timer: setInterval(say, 1000) };
  say();
  $("undo-box").replaceChildren(make("span", {}, words + " "), b);
  b.focus();
}

async function undo() {
  if (!view.undo) return;
  const { numbers, timer } = view.undo;
  clearInterval(timer);
  view.undo = null;
  $("undo-box").replaceChildren();
  try {
    const done = await ask("/api/sightings", { numbers, remove: false });
    for (const n of numbers) view.gone.delete(n);
    notice(done.failed.length > 0 ? done.why : numbers.length === 1 ? "It is back." : "They are back.", done.failed.length > 0);
    await list();
    showSighting(numbers[0]);
  } catch (e) { complain(e); }
}

// Answers that are under way still have them.
function forget(numbers) {
  for (const n of numbers) {
    view.gone.add(n);
    setTimeout(() => view.gone.delete(n), GONE_MS);
  }
}

async function remove(s) {
  const body = make("p", {}, count(s.captures.length, "file") + ", " + size(s.bytes) + (s.starred ? ". It is starred." : "."));
  if (!await agree("Delete sighting " + s.number + " of " + s.camera + "?", body, "Delete")) return;
  try {
    await ask("/api/sightings/" + s.number, { remove: true });
    forget([s.number]);
    const keys = [...view.rows.keys()], at = keys.indexOf(s.number), next = keys[at + 1] || keys[at - 1];
    if (view.rows.has(s.number)) view.rows.get(s.number).element.remove();
    view.rows.delete(s.number);
    view.brief.delete(s.number);
    for (const b of document.querySelectorAll(".band[data-id='" + s.number + "']")) b.remove();
    if (next) showSighting(next); else $("detail").replaceChildren();
    offerUndo([s.number], "Sighting " + s.number + " of " + s.camera + " is deleted.");
  } catch (e) { complain(e); }
}

// ---- keys

const step = () => 1 / ((view.rows.get(view.id) && state.fps.get(view.rows.get(view.id).s.camera)) || 10);

function go(by) {
  const keys = [...view.rows.keys()], next = keys[keys.indexOf(view.id) + by];
  if (next === undefined) return;
  const b = view.rows.get(next).element.querySelector("button");
  b.focus();
  showSighting(next);
}

function press(event) {
  if ($("view-sightings").hidden || event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]") || /INPUT|SELECT|TEXTAREA/.test(event.target.tagName)) return;
  const video = $("detail").querySelector("video");
  const click = (id) => { if ($(id) && $("detail").dataset.number === String(view.id)) $(id).click(); };  // never on the one shown before
  const keys = { j: () => go(1), k: () => go(-1), s: () => click("star"), r: () => click("mark-right"), n: () => click("mark-nothing"), x: () => click("delete"), u: undo, h: () => otherDay(-1), l: () => otherDay(1),
    ".": () => { if (video) { video.pause(); video.currentTime += step(); } }, ",": () => { if (video) { video.pause(); video.currentTime -= step(); } },
    p: () => { if (video) { if (video.paused) video.play(); else video.pause(); } } };
  const named = !keys[event.key] && $("detail").dataset.number === String(view.id) && [...$("detail").querySelectorAll("button[data-key]")].find((b) => b.dataset.key === event.key);
  if (named) { event.preventDefault(); named.click(); return; }
  if (!keys[event.key]) return;
  event.preventDefault();
  keys[event.key]();
}

export function begin() {
  several.begin({ numbers: () => [...view.brief.keys()], filter: () => filter(view.until).toString(),
    packable: () => !filter(view.until).has("hours"), again: list,
    removed: async (numbers) => { forget(numbers); await list(); offerUndo(numbers, count(numbers.length, "sighting is", "sightings are") + " deleted."); } });
  $("day").addEventListener("change", () => { turnSearch(false); list(); });
  for (const id of ["camera", "starred"]) $(id).addEventListener("change", list);
  $("search").addEventListener("click", () => { turnSearch(!searching()); list(); });
  $("search-form").addEventListener("submit", (event) => { event.preventDefault(); list(); });
  $("day-before").addEventListener("click", () => otherDay(-1));
  $("day-after").addEventListener("click", () => otherDay(1));
  $("say-missed").addEventListener("click", sayOneWasMissed);
  $("list").addEventListener("scroll", () => { const e = $("list"); if (view.more && e.scrollTop + e.clientHeight > e.scrollHeight - 400) load(); });
  document.addEventListener("keydown", press);
}

let timer = 0;
export async function enter() {
  fillCameras($("camera"), true);
  view.destinations = mayRun() ? await ask("/api/outbox").then((a) => a.destinations.map((d) => d.destination)).catch(() => []) : [];
  view.names = await ask("/api/names").then((a) => a.names).catch(() => []);
  await list();
  timer = setInterval(() => update().catch(() => {}), 4000);
}
export function leave() {
  clearInterval(timer);
  for (const v of $("detail").querySelectorAll("video")) v.pause();
}
