// Sightings: a day as strips, a list, and one of them in full.
import { $, ask, bare, button, cameraChooser, complain, dayShort, icon, idOf, idWords, isNarrow, lengthOf, linesOf, make, mayKeep, mayRun, minute, nameOf, named, notice, percent, setChooser, size, state, stationOf, stillOf, t } from "./common.js";
import { sayMissed, showMissed } from "./missed.js";
import { fill, rowOf, watchRows } from "./rows.js";
import * as several from "./several.js";
import * as sighting from "./sighting.js";
import * as strips from "./strips.js";

const PAGE = 100, AHEAD = 8000, AGAIN_MS = 3000, FAR = Date.UTC(2100, 0);
const MANY_MOST = 5000;  // that are asked for of many stations
const view = { id: 0, cut: false, renew: () => {}, rows: new Map(), from: 0, until: 0, earliest: 0, more: false, loading: false, undo: null, brief: new Map(), strips: [], camera: "", starred: false,
  asked: 0,          // which list is shown: answers for an earlier one come too late
  gone: new Set() }; // deleted a moment ago: answers from before still have them
const GONE_MS = 20000;

const day = () => $("day").value;

function dateText(d) {
  return d.getFullYear() + "-" + String(d.getMonth() + 1).padStart(2, "0") + "-" + String(d.getDate()).padStart(2, "0");
}

// All days are searched, not one of them looked at.
const searching = () => !$("search-form").hidden;

// Local days are not always 24 hours long.
function setSpan() {
  if (searching()) { view.from = 0; view.until = FAR; return; }  // a clock may have been ahead
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

function turnStarred(on) {
  view.starred = on;
  $("starred").setAttribute("aria-pressed", String(on));
}

function setDay(date) {
  turnSearch(false);
  $("day").value = date;
  return list();
}

function otherDay(by) {
  const d = new Date(day() + "T12:00:00");
  d.setDate(d.getDate() + by);
  setDay(dateText(d));
}

// ---- the list: the newest first, some at a time

const facts = (s) => [s.camera + " \u00b7 " + lengthOf(s), make("br", {}), t("peak-of", { peak: percent(s.peak) }) + (s.bytes > 0 ? " \u00b7 " + size(s.bytes) : "")];

function contentOf(s) {
  const time = (searching() ? dayShort(s.start) + ", " : "") + minute(s.start);
  const text = make("span", { title: named(s) || undefined }, make("strong", {}, time), " ", s.end ? (s.name || s.mark === "nothing" ? nameOf(s) : "") : make("span", { class: "st sight small" }, icon("sighting"), t("runs")), make("small", { class: "dim" }, ...facts(s)));
  const star = mayRun() ? bare(s.starred ? "staron" : "star", t("star-at", { time }), () => turnStar(s), { "aria-pressed": String(s.starred) }) : "";
  const b = make("button", { type: "button", class: "row-open", "data-id": s.number, "aria-current": view.id === s.number && "true" }, make("span", { class: "frame" }), text);
  b.addEventListener("click", () => { location.hash = "#sightings/" + idWords(s.number); if (view.id === s.number) open(s.number); });
  return [several.box(s.number), b, star];
}

const makeRow = (s) => rowOf({ class: s.mark === "nothing" ? "nothing" : "" }, () => contentOf(s), (e) => e.querySelector(".frame").replaceChildren(stillOf(s)));

async function turnStar(s) {
  try { await ask("/api/sightings/" + idWords(s.number), { star: !s.starred }); replaceRow(Object.assign({}, s, { starred: !s.starred })); if (view.id === s.number) await sighting.showFacts(s.number); }
  catch (e) { complain(e); }
}

function filter(until) {
  const all = new URLSearchParams({ from: view.from, until, camera: view.camera, starred: view.starred ? "1" : "0" });
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
    const rows = [];
    for (const s of found) {
      if (view.rows.has(s.number) || view.gone.has(s.number)) continue;
      const element = makeRow(s);
      view.rows.set(s.number, { s, element });
      rows.push(element);
      view.earliest = Math.min(view.earliest, Math.floor(new Date(s.start).getTime()) + 1);
    }
    $("list").append(...rows);
    view.renew();
    sayFound();
  } catch (e) {
    if (asked !== view.asked) return;
    complain(e);
    setTimeout(loadAhead, AGAIN_MS);  // one lost answer is not the end of the list
    view.loading = false;
    return;
  }
  view.loading = false;
  loadAhead();
}

// More before its end is reached: who scrolls on may be quicker than one answer.
function loadAhead() {
  const e = $("list"), left = isNarrow() ? document.body.scrollHeight - innerHeight - scrollY : e.scrollHeight - e.clientHeight - e.scrollTop;
  if (view.more && !view.loading && e.offsetParent && left < AHEAD) load();
}

const briefOf = (s) => [s.number, s.camera, new Date(s.start).getTime(), s.end ? new Date(s.end).getTime() : 0, s.starred];

// A strip for each camera, or, where those are many, for each station: then which they are follows from what came.
function showStrips() {
  const all = [...view.brief.values()], { names, of } = linesOf(all.map((b) => b[1]));
  if (state.me.many && !searching() && JSON.stringify(names) !== JSON.stringify(view.strips)) beginStrips(names);
  strips.setSightings(state.me.many ? new Map(all.map((b) => [b[0], [b[0], of(b[1]), ...b.slice(2)]])) : view.brief);
}
function beginStrips(names) {
  view.strips = names;
  strips.show({ from: view.from, until: view.until }, searching() ? [] : names.filter((n) => !view.camera || n === view.camera || n === stationOf(view.camera)));
}

// All of a day, also those that the list has not fetched yet.
async function loadBrief() {
  const asked = view.asked, found = (await ask("/api/sightings?brief=1&" + (state.me.many ? "most=" + MANY_MOST + "&" : "") + filter(view.until))).sightings;
  if (asked !== view.asked) return;
  view.cut = state.me.many && found.length === MANY_MOST;
  view.brief = new Map(found.filter((b) => !view.gone.has(b[0])).map((b) => [b[0], b]));
  showStrips();
}

// One that runs shows what its camera sees now.
function renewRunning() {
  for (const { s, element } of view.rows.values()) {
    if (s.end || s.stills > 0) continue;
    const image = element.querySelector(".frame > *");
    if (image) image.replaceWith(stillOf(s));
  }
  const image = $("detail").querySelector("img.running");
  if (image) image.src = image.src.replace(/at=\d+/, "at=" + Date.now());
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
    if (known && JSON.stringify(known.s) !== JSON.stringify(s)) { replaceRow(s); if (view.id === s.number && !$("detail").querySelector("video") && !sighting.isWriting()) showSighting(s.number); }
    if (!known) fresh = [[s.number, { s, element: makeRow(s) }], ...fresh];
  }
  renewRunning();
  if (fresh.length === 0) return;
  view.rows = new Map([...fresh, ...before]);
  $("list").prepend(...fresh.map(([, one]) => one.element));
  view.renew();
  for (const [id, row] of fresh) view.brief.set(id, briefOf(row.s));
  showStrips();
  if (before.length === 0 && !isNarrow()) showSighting(fresh[0][0]);
  sayFound();
}

const sayFound = () => { $("found").textContent = t(view.cut ? "n-sightings-more" : "n-sightings", { n: Math.max(view.rows.size, view.brief.size) }); };

const missed = async () => state.me.many ? null : showMissed({ from: view.from, until: view.until }, view.camera, strips.setMissed);

// The time that is looked at: of the chosen sighting, now, or the middle of a day that was.
function sayOneWasMissed() {
  const row = view.rows.get(view.id), now = Date.now();
  const time = row ? new Date(row.s.start).getTime() : now < view.until ? now : (view.from + view.until) / 2;
  sayMissed(row ? row.s.camera : view.camera, time, missed);
}

// Days beside one that has none.
async function nearestDays() {
  const rest = "&camera=" + encodeURIComponent(view.camera) + (view.starred ? "&starred=1" : "");
  const [before, after] = await Promise.all([ask("/api/sightings?most=1&until=" + view.from + rest), ask("/api/sightings?brief=1&from=" + view.until + rest)]);
  const days = [...before.sightings.map((s) => s.start), ...(after.sightings.length > 0 ? [after.sightings[0][2]] : [])];
  return days.map((d) => button(dayShort(d), () => setDay(dateText(new Date(d)))));
}

async function showNone(asked) {
  if (searching()) { sighting.clear(make("p", { class: "blank" }, t("nothing-like-that"))); return; }
  const box = make("div", { class: "blank" }, make("p", {}, t("none-that-day")));
  sighting.clear(box);
  const days = await nearestDays().catch(() => []);
  if (asked === view.asked && days.length > 0) box.append(make("p", { class: "small dim" }, t("nearest-days")), make("div", { class: "bar" }, ...days));
}

async function list(first) {
  const asked = ++view.asked;
  view.loading = false;
  setSpan();
  view.rows.clear();
  view.earliest = view.until;
  view.id = 0;
  $("list").replaceChildren();
  sighting.clear();
  beginStrips(linesOf([]).names);
  await Promise.all([load(), loadBrief().catch(complain), missed().catch(complain)]);
  if (asked !== view.asked) return;
  sayFound();
  several.shown();
  const chosen = first || view.rows.keys().next().value;
  if (chosen === undefined) await showNone(asked);
  else if (first || !isNarrow()) await showSighting(chosen);
}

// ---- one

async function showSighting(id) {
  view.id = id;
  for (const b of $("list").querySelectorAll("[aria-current=true]")) b.removeAttribute("aria-current");
  for (const b of $("list").querySelectorAll("button[data-id=\"" + CSS.escape(id) + "\"]")) b.setAttribute("aria-current", "true");
  strips.choose(id);
  try { await sighting.show(id, () => view.id === id); }
  catch (e) { complain(e); }
}

function show(on) {
  $("three").classList.toggle("open", on);
  if (!on) view.renew();
}

/** Go to one of them, whichever day it is of. */
async function open(number) {
  show(true);
  if (view.rows.has(number)) { if (view.id !== number || !$("detail").firstChild) await showSighting(number); return; }
  const s = await ask("/api/sightings/" + idWords(number));
  turnSearch(false);
  turnStarred(false);
  view.camera = "";
  setChooser($("camera"), "");
  $("day").value = dateText(new Date(s.start));
  await list(number);
  const row = view.rows.get(number);
  if (row) row.element.scrollIntoView({ block: "nearest" });
}

function replaceRow(s) {
  const row = view.rows.get(s.number);
  if (!row) return;
  const element = makeRow(s);
  row.element.replaceWith(element);
  view.renew();
  view.rows.set(s.number, { s, element });
  view.brief.set(s.number, briefOf(s));
  showStrips();
}

// ---- deleting: asked once, undone for ten seconds

function offerUndo(numbers, words) {
  clearInterval(view.undo && view.undo.timer);
  let left = 10;
  const b = button("", () => undo(), { id: "undo" });
  const say = () => { b.textContent = t("undo", { n: left }); if (left-- <= 0) { clearInterval(view.undo.timer); view.undo = null; $("undo-box").replaceChildren(); } };
  view.undo = { numbers, timer: setInterval(say, 1000) };
  say();
  $("undo-box").replaceChildren(make("span", { class: "small" }, words + " "), b);
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
    notice(done.failed.length > 0 ? done.why : t("is-back", { n: numbers.length }), done.failed.length > 0);
    await list(numbers[0]);
  } catch (e) { complain(e); }
}

// Answers that are under way still have them.
function forget(numbers) {
  for (const n of numbers) {
    view.gone.add(n);
    setTimeout(() => view.gone.delete(n), GONE_MS);
  }
}

function removed(s) {
  forget([s.number]);
  const keys = [...view.rows.keys()], at = keys.indexOf(s.number), next = keys[at + 1] || keys[at - 1];
  if (view.rows.has(s.number)) view.rows.get(s.number).element.remove();
  view.rows.delete(s.number);
  view.renew();
  view.brief.delete(s.number);
  showStrips();
  if (next) showSighting(next); else sighting.clear();
  sayFound();
  offerUndo([s.number], t("deleted-one", { n: s.number, camera: s.camera }));
}

// ---- keys

function go(by) {
  const keys = [...view.rows.keys()], next = keys[keys.indexOf(view.id) + by];
  if (next === undefined) return;
  fill(view.rows.get(next).element);
  const b = view.rows.get(next).element.querySelector(".row-open");
  if (!isNarrow()) b.focus();
  b.scrollIntoView({ block: "nearest" });
  history.replaceState(null, "", "#sightings/" + idWords(next));
  showSighting(next);
}

function press(event) {
  if ($("view-sightings").hidden || event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]") || /INPUT|SELECT|TEXTAREA/.test(event.target.tagName)) return;
  const isShown = $("detail").dataset.number === String(view.id);  // never on the one shown before
  const click = (id) => { if ($(id) && isShown) $(id).click(); };
  const keys = { j: () => go(1), k: () => go(-1), s: () => click("star"), r: () => click("mark-right"), n: () => click("mark-nothing"), x: () => click("delete"), u: undo, h: () => otherDay(-1), l: () => otherDay(1),
    ".": () => sighting.step(1), ",": () => sighting.step(-1), p: () => sighting.play() };
  const named = !keys[event.key] && isShown && [...$("detail").querySelectorAll("button[data-key]")].find((b) => b.dataset.key === event.key);
  if (named) { event.preventDefault(); named.click(); return; }
  if (!keys[event.key]) return;
  event.preventDefault();
  keys[event.key]();
}

function beginSeveral() {
  several.begin({ numbers: () => [...view.brief.keys()], filter: () => filter(view.until).toString(), packable: () => !filter(view.until).has("hours"), again: () => list(view.id),
    removed: async (numbers) => { forget(numbers); await list(); offerUndo(numbers, t("deleted-n", { n: numbers.length })); } });
}

export function begin() {
  view.renew = watchRows($("list"));
  sighting.begin({ changed: replaceRow, removed, go, back: () => { location.hash = "#sightings"; } });
  strips.begin((id) => {
    const row = view.rows.get(id);
    if (row) row.element.scrollIntoView({ block: "nearest" });
    location.hash = "#sightings/" + idWords(id);
  });
  beginSeveral();
  $("day").addEventListener("change", () => { turnSearch(false); list(); });
  $("starred").addEventListener("click", () => { turnStarred(!view.starred); list(); });
  $("search").addEventListener("click", () => { turnSearch(!searching()); list(); });
  $("search-form").addEventListener("submit", (event) => { event.preventDefault(); list(); });
  $("day-before").addEventListener("click", () => otherDay(-1));
  $("day-after").addEventListener("click", () => otherDay(1));
  $("say-missed").addEventListener("click", sayOneWasMissed);
  $("list").addEventListener("scroll", loadAhead, { passive: true });
  addEventListener("scroll", loadAhead, { passive: true });
  document.addEventListener("keydown", press);
}

let timer = 0;
export async function follow(rest) { const id = idOf(rest); if (id) await open(id); else show(false); }
export async function enter(rest) {
  $("camera-box").replaceChildren(cameraChooser("camera", true, view.camera, (name) => { view.camera = name; list(); }));
  $("say-missed").hidden = !mayKeep();
  for (const part of [$("starred"), $("choose"), $("search-hours").parentElement]) part.hidden = state.me.many;
  const [names, outbox] = await Promise.all([ask("/api/names").catch(() => ({ names: [] })), mayKeep() && !state.me.cameras ? ask("/api/outbox").catch(() => ({ destinations: [] })) : { destinations: [] }]);
  sighting.know(names.names, outbox.destinations.map((d) => d.destination));
  clearInterval(timer);
  timer = setInterval(() => update().catch(() => {}), 4000);
  const id = idOf(rest);
  show(Boolean(id));
  if (id) await open(id);
  else await list();
}
export function leave() {
  clearInterval(timer);
  sighting.pauseAll();
}
