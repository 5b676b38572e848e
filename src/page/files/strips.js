// The strips of a day: activity and sightings of each camera over time, zoomed to hours and minutes.
import { $, along, ask, hour, make, minute, shape, state, t } from "./common.js";

const MINUTE = 60e3, HOUR = 60 * MINUTE, LEAST = 10 * MINUTE, HEIGHT = 32;
const STEPS = [1, 2, 5, 10, 15, 30, 60, 120, 180, 360].map((m) => m * MINUTE);
const view = { day: { from: 0, until: 1 }, from: 0, until: 1, rows: new Map(), brief: new Map(), missed: [], chosen: 0, onPick: () => {}, timer: 0, asked: 0 };

const span = () => view.until - view.from;
const x = (time) => 1000 * (time - view.from) / span();
const isWhole = () => view.from <= view.day.from && view.until >= view.day.until;

// ---- what is drawn

function tracePath(trace) {
  let d = "", open = false;
  trace.ppm.forEach((p, i) => {
    const at = x(trace.from + i * trace.step_s * 1000).toFixed(1);
    if (p < 0) { if (open) d += "V" + HEIGHT; open = false; return; }
    d += (open ? "L" : "M" + at + " " + HEIGHT + "L") + at + " " + (HEIGHT - HEIGHT * Math.min(1, along(p / 1e4) * 3)).toFixed(1);
    open = true;
  });
  return d && d + "V" + HEIGHT + "Z";
}

function setBand(row, [id, , start, end, starred]) {
  const left = x(start), width = Math.max(2, x(end || Date.now()) - left);
  if (left > 1000 || left + width < 0) return;
  row.bands.append(shape("rect", { class: "band" + (starred ? " starred" : "") + (id === view.chosen ? " chosen" : ""), "data-id": id, x: left.toFixed(2), y: 0, width: width.toFixed(2), height: HEIGHT }));
}

function drawBands() {
  for (const row of view.rows.values()) row.bands.replaceChildren();
  for (const b of view.brief.values()) { const row = view.rows.get(b[1]); if (row) setBand(row, b); }
  for (const row of view.rows.values()) row.missed.replaceChildren();
  for (const m of view.missed) {
    const row = view.rows.get(m.camera), at = x(new Date(m.at).getTime());
    if (row && at >= 0 && at <= 1000) row.missed.append(shape("path", { class: "missed", d: "M" + at.toFixed(1) + " 0V" + HEIGHT }));  // dashed: not taken for a sighting
  }
}

function drawTicks() {
  const room = $("strips").clientWidth < 600 ? 4 : 9, step = STEPS.find((s) => span() / s <= room) || 6 * HOUR, first = new Date(view.day.from), all = [];
  for (let time = first.getTime(); time <= view.until; time += step) {
    if (time < view.from) continue;
    const e = make("span", { class: "tick" }, step >= HOUR ? hour(time) : minute(time));
    const at = x(time) / 10;
    e.style.left = at.toFixed(2) + "%";
    if (at < 3) e.classList.add("first"); else if (at > 97) e.classList.add("last");
    all.push(e);
  }
  view.ticks.replaceChildren(...all);
}

// Of the whole day, with a window that says what is shown below.
function drawOverview() {
  view.over.toggleAttribute("hidden", isWhole());
  $("zoom-said").textContent = isWhole() ? "" : t("from-to", { from: minute(view.from), until: minute(view.until) });
  $("zoom-all").disabled = isWhole();
  $("zoom-out").disabled = isWhole();
  $("zoom-in").disabled = span() <= LEAST;
  if (isWhole()) return;
  const part = (time) => 1000 * (time - view.day.from) / (view.day.until - view.day.from);
  view.over.replaceChildren(...[...view.brief.values()].map((b) => shape("rect", { class: "mark", x: part(b[2]).toFixed(1), y: 4, width: 2, height: 8 })),
    shape("rect", { class: "window", x: part(view.from).toFixed(1), y: 1, width: Math.max(4, part(view.until) - part(view.from)).toFixed(1), height: 14 }));
}

// One after another: a line of many days is long.
async function loadTraces() {
  const asked = ++view.asked;
  if (state.me.many) return;  // levels stay with their stations
  for (const [name, row] of view.rows) {
    const a = await ask("/api/traces/" + encodeURIComponent(name) + "?from=" + Math.floor(view.from) + "&until=" + Math.ceil(view.until) + "&points=720").catch(() => null);
    if (asked !== view.asked) return;
    if (a) row.trace.setAttribute("d", tracePath(a));
  }
}

function draw() {
  for (const row of view.rows.values()) row.trace.setAttribute("d", "");
  drawBands();
  drawTicks();
  drawOverview();
  clearTimeout(view.timer);
  view.timer = setTimeout(() => loadTraces().catch(() => {}), 80);
}

// ---- zooming

function setWindow(from, until) {
  const whole = view.day.until - view.day.from, length = Math.max(LEAST, Math.min(whole, until - from));
  const begin = Math.max(view.day.from, Math.min(view.day.until - length, from + (until - from - length) / 2));
  view.from = begin;
  view.until = begin + length;
  draw();
}

function zoom(factor, at = 0.5) {
  const fixed = view.from + at * span(), length = span() * factor;
  setWindow(fixed - at * length, fixed + (1 - at) * length);
}
const move = (share) => setWindow(view.from + share * span(), view.until + share * span());

const share = (event) => { const r = view.box.getBoundingClientRect(); return Math.max(0, Math.min(1, (event.clientX - r.left) / r.width)); };

function byWheel(event) {
  if (event.deltaX && Math.abs(event.deltaX) > Math.abs(event.deltaY)) { if (isWhole()) return; event.preventDefault(); move(event.deltaX / 1000); return; }
  if ((event.deltaY > 0 && isWhole()) || (event.deltaY < 0 && span() <= LEAST)) return;  // then the page scrolls
  event.preventDefault();
  zoom(event.deltaY > 0 ? 1.25 : 0.8, share(event));
}

const fingers = new Map();
let moved = false;
function pointerMove(event) {
  if (!fingers.has(event.pointerId)) return;
  const before = [...fingers.values()], was = fingers.get(event.pointerId), at = share(event);
  fingers.set(event.pointerId, at);
  if (Math.abs(at - was) > 0.004) moved = true;
  if (fingers.size === 1) { if (!isWhole()) move(was - at); return; }
  const now = [...fingers.values()], far = Math.abs(before[0] - before[1]), near = Math.abs(now[0] - now[1]);
  if (far > 0.01 && near > 0.01) zoom(far / near, (now[0] + now[1]) / 2);
}

function byKey(event) {
  const act = { "+": () => zoom(0.5), "-": () => zoom(2), ArrowLeft: () => move(-0.25), ArrowRight: () => move(0.25), 0: () => setWindow(view.day.from, view.day.until) }[event.key];
  if (!act || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  event.stopPropagation();
  act();
}

function pick(event, camera) {
  if (moved) return;
  const time = view.from + share(event) * span();
  let best = null;
  for (const b of view.brief.values()) if (b[1] === camera && (!best || Math.abs(b[2] - time) < Math.abs(best[2] - time))) best = b;
  if (best) view.onPick(best[0]);
}

// ---- from outside

function makeRow(camera) {
  const svg = shape("svg", { viewBox: "0 0 1000 " + HEIGHT, preserveAspectRatio: "none", class: "strip", "aria-hidden": "true" });
  const row = { trace: shape("path", { class: "trace" }), bands: shape("g", {}), missed: shape("g", {}) };
  svg.append(row.trace, row.bands, row.missed);
  svg.addEventListener("click", (event) => pick(event, camera));
  row.element = make("div", { class: "strip-row" }, make("span", { class: "strip-name" }, camera), svg);
  return row;
}

/** Show the strips of these cameras over a day. */
export function show(day, cameras) {
  const same = view.day.from === day.from && view.day.until === day.until;
  view.day = day;
  if (!same) { view.from = day.from; view.until = day.until; }
  view.brief = new Map();
  view.missed = [];
  view.rows = new Map(cameras.map((n) => [n, makeRow(n)]));
  view.over = shape("svg", { class: "overview", viewBox: "0 0 1000 16", preserveAspectRatio: "none", "aria-hidden": "true" });
  view.ticks = make("div", { class: "ticks", "aria-hidden": "true" });
  view.box = make("div", { class: "strip-box" }, ...[...view.rows.values()].map((r) => r.element));
  $("strips").hidden = $("zoom").hidden = cameras.length === 0;
  $("strips").replaceChildren(view.over, view.box, view.ticks);
  if (cameras.length > 0) draw();
}

/** All sightings of the day: number to [number, camera, start, end, starred]. */
export function setSightings(brief) { view.brief = brief; drawBands(); drawOverview(); }
export function setMissed(all) { view.missed = all; drawBands(); }
export function choose(id) {
  view.chosen = id;
  for (const b of $("strips").querySelectorAll(".band")) b.classList.toggle("chosen", b.dataset.id === String(id));
}

export function begin(onPick) {
  view.onPick = onPick;
  const e = $("strips");
  e.addEventListener("wheel", byWheel, { passive: false });
  e.addEventListener("keydown", byKey);
  e.addEventListener("pointerdown", (event) => { moved = false; fingers.set(event.pointerId, share(event)); });
  addEventListener("pointermove", pointerMove);
  for (const over of ["pointerup", "pointercancel"]) addEventListener(over, (event) => fingers.delete(event.pointerId));
  $("zoom-in").addEventListener("click", () => zoom(0.5));
  $("zoom-out").addEventListener("click", () => zoom(2));
  $("zoom-all").addEventListener("click", () => setWindow(view.day.from, view.day.until));
  addEventListener("resize", () => { if (state.cameras.length > 0 && view.ticks && e.clientWidth) drawTicks(); });
}
