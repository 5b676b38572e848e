// Zones: polygons drawn on the picture, and what they would have made of the last minute.
import { $, along, ask, button, complain, make, notice, oneAtATime, pause, percent, picture, save, shape, state, t } from "./common.js";

const KINDS = ["ignored", "watched", "own", "private"];
const view = { camera: "", on: false, zones: [], saved: [], chosen: -1, drawing: false, running: false, number: 0, shape: 0 };

const camera = () => view.camera;
const inSettings = () => state.me.many ? camera().split("/").slice(1).join("/") : camera();  // of many, the name has the station before it
const clone = (zones) => zones.map((z) => Object.assign({}, z, { points: z.points.map((p) => [...p]) }));
const round = (x) => Math.max(0, Math.min(100, Math.round(10 * x) / 10));
const area = (z) => z.points.map(([x, y]) => round(x) + "," + round(y)).join(" ");

// ---- what has changed, as the settings have it

function changesOf(z, was) {
  const name = inSettings() + "/" + z.name, list = [];
  if (was && was.name !== z.name) list.push({ head: "zone", name: inSettings() + "/" + was.name, key: null, value: name });
  const put = (key, value, before) => { if (value !== before) list.push({ head: "zone", name, key, value }); };
  put("kind", z.kind, was ? was.kind : undefined);
  put("area", area(z), was ? area(was) : undefined);
  put("start_at", z.start_at + " %", was ? was.start_at + " %" : "0 %");
  put("stay_at", z.stay_at + " %", was ? was.stay_at + " %" : "0 %");
  return list;
}

function changes() {
  const kept = new Set(view.zones.map((z) => z.was));
  const gone = view.saved.filter((z) => !kept.has(z.name)).map((z) => ({ head: "zone", name: inSettings() + "/" + z.name, key: null, value: null }));
  return gone.concat(...view.zones.map((z) => changesOf(z, view.saved.find((s) => s.name === z.was))));
}

// ---- the last minute

function line(levels, top) {
  return levels.map((p, i) => (i ? "L" : "M") + (1000 * i / Math.max(1, levels.length - 1)).toFixed(1) + " " + (100 - 100 * Math.min(1, along(p / 1e4) / top)).toFixed(1)).join("");
}

function showMinute(m) {
  const most = (one) => Math.max(0, ...one.ppm) / 1e4;
  const top = Math.max(0.05, along(Math.max(most(m.now), most(m.changed)))) * 1.1;
  $("zones-chart").replaceChildren(shape("path", { class: "was", d: line(m.now.ppm, top) }), shape("path", { class: "new", d: line(m.changed.ppm, top) }));
  const said = (one) => t("peak-of", { peak: percent(most(one)) }) + ", " + t("n-sightings", { n: one.sightings });
  $("zones-said").textContent = m.now.frames === 0 ? t("no-frame") : t("last-minute", { with: said(m.changed), saved: said(m.now) });
}

// Of many, frames stay with their stations: what it would have made is not known here.
const tryZones = oneAtATime(async () => {
  if (state.me.many) return;
  try {
    const a = await ask("/api/try", { camera: camera(), minute: true, changes: changes() });
    showMinute(a.minute);
    $("zones-wrong").textContent = "";
  } catch (e) { $("zones-wrong").textContent = e.message; }
});

// ---- drawing

const onX = (x) => 10 * x, onY = (y) => 10 * y * view.shape;  // of the drawing, which is 1000 wide and as high as the picture

// Handles are as large for a finger on a phone as on a desk.
const inPx = (px) => (px * 1000 / Math.max(200, $("zones-shapes").clientWidth)).toFixed(1);

function setShape(width, height) {
  if (view.shape === height / width) return;
  view.shape = height / width;
  $("zones-shapes").setAttribute("viewBox", "0 0 1000 " + (1000 * view.shape).toFixed(1));
  $("zones-picture").parentElement.style.setProperty("--shape", String(width / height));
  drawShapes();
}

function at(event) {
  const r = $("zones-picture").getBoundingClientRect();
  return [round(100 * (event.clientX - r.left) / r.width), round(100 * (event.clientY - r.top) / r.height)];
}

function move(z, by) {
  const xs = z.points.map((p) => p[0]), ys = z.points.map((p) => p[1]);
  const dx = Math.max(-Math.min(...xs), Math.min(100 - Math.max(...xs), by[0])), dy = Math.max(-Math.min(...ys), Math.min(100 - Math.max(...ys), by[1]));
  z.points = z.points.map(([x, y]) => [x + dx, y + dy]);
}

// Follows a pointer until it is let go.
function follow(event, moved) {
  event.preventDefault();
  event.stopPropagation();
  const e = event.currentTarget;
  let last = at(event);
  const on = (ev) => { const now = at(ev); moved(now, [now[0] - last[0], now[1] - last[1]]); last = now; drawShapes(); };
  const end = () => { document.removeEventListener("pointermove", on); document.removeEventListener("pointerup", end); draw(); tryZones(); };
  document.addEventListener("pointermove", on);
  document.addEventListener("pointerup", end);
  if (e.focus) e.focus();
}

function corner(z, i) {
  const [x, y] = z.points[i];
  const h = shape("circle", { class: "corner", cx: onX(x), cy: onY(y), r: inPx(11), tabindex: 0, role: "button",
    "aria-label": t("corner", { n: i + 1, name: z.name, x: round(x), y: round(y) }), "data-corner": i });
  h.addEventListener("pointerdown", (event) => follow(event, (now) => { z.points[i] = now; }));
  h.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key], far = event.shiftKey ? 5 : 1;
    if (step) z.points[i] = [round(z.points[i][0] + far * step[0]), round(z.points[i][1] + far * step[1])];
    else if ((event.key === "Delete" || event.key === "Backspace") && z.points.length > 3) z.points.splice(i, 1);
    else return;
    event.preventDefault();
    draw();
    tryZones();
    const back = $("zones-shapes").querySelector("[data-corner='" + Math.min(i, z.points.length - 1) + "']");
    if (back) back.focus();
  });
  return h;
}

// Between two corners: a new one is pulled out of it.
function between(z, i) {
  const a = z.points[i], b = z.points[(i + 1) % z.points.length];
  const h = shape("circle", { class: "corner between", cx: onX((a[0] + b[0]) / 2), cy: onY((a[1] + b[1]) / 2), r: inPx(8), "aria-hidden": "true" });
  h.addEventListener("pointerdown", (event) => {
    z.points.splice(i + 1, 0, at(event));
    follow(event, (now) => { z.points[i + 1] = now; });
  });
  return h;
}

function drawShapes() {
  const parts = [];
  view.zones.forEach((z, k) => {
    const p = shape("polygon", { class: "zone zone-" + z.kind + (k === view.chosen ? " chosen" : ""), points: z.points.map(([x, y]) => onX(x) + "," + onY(y)).join(" ") });
    p.addEventListener("pointerdown", (event) => { if (view.drawing) return; choose(k); follow(event, (now, by) => move(z, by)); });
    parts.push(p);
  });
  const z = view.zones[view.chosen];
  if (z && !view.drawing && z.points.length >= 3) z.points.forEach((p, i) => parts.push(between(z, i)));
  if (z) z.points.forEach((p, i) => parts.push(corner(z, i)));
  $("zones-shapes").replaceChildren(...parts);
}

function field(id, label, input) {
  input.id = id;
  return make("div", {}, make("label", { class: "small", for: id }, label), input);
}

function limit(z, key, label) {
  return field("zone-" + key, label, make("input", { class: "form-control", type: "number", min: 0, max: 100, step: "any", value: z[key],
    onchange: (event) => { z[key] = Math.max(0, Math.min(100, Number(event.target.value) || 0)); tryZones(); } }));
}

function details(z) {
  const kind = make("select", { class: "form-select", onchange: (event) => { z.kind = event.target.value; if (z.kind === "own" && !z.start_at) z.start_at = 1; draw(); tryZones(); } },
    ...KINDS.map((value) => make("option", { value, selected: value === z.kind }, t("zone-kind." + value))));
  const name = make("input", { class: "form-control", value: z.name, maxlength: 30, pattern: "[A-Za-z0-9_\\-]+",
    onchange: (event) => {
      const to = event.target.value.trim();
      if (!/^[A-Za-z0-9_-]+$/.test(to) || view.zones.some((o) => o !== z && o.name === to)) { notice(t("zone-name-is"), true); event.target.value = z.name; return; }
      z.name = to; draw(); tryZones();
    } });
  const parts = [field("zone-name", t("name"), name), field("zone-kind", t("moves-inside"), kind)];
  if (z.kind === "watched" || z.kind === "own") parts.push(limit(z, "start_at", t("zone-start") + (z.kind === "watched" ? " " + t("zero-camera") : "")), limit(z, "stay_at", t("zone-stay")));
  parts.push(button(t("delete-zone"), () => { view.zones.splice(view.chosen, 1); view.chosen = -1; draw(); tryZones(); }, { id: "zone-delete", class: "btn danger" }));
  return parts;
}

function draw() {
  drawShapes();
  $("zones-list").replaceChildren(...view.zones.map((z, k) => make("li", {}, button(z.name + ", " + t("zone." + z.kind), () => choose(k), { "aria-pressed": String(k === view.chosen) }))));
  const z = view.zones[view.chosen];
  $("zones-details").replaceChildren(...(z && !view.drawing ? details(z) : []));
  $("zones-new").textContent = t(view.drawing ? "close-zone" : "new-zone");
  $("zones-save").disabled = $("zones-back").disabled = changes().length === 0 || view.drawing;
  $("zones-help").textContent = t(view.drawing ? "tap-corners" : z ? "drag-corners" : "choose-zone");
}

function choose(k) { view.chosen = k; draw(); }

function freeName() {
  let n = view.zones.length + 1;
  while (view.zones.some((z) => z.name === "zone" + n) || view.saved.some((z) => z.name === "zone" + n)) n++;
  return "zone" + n;
}

// Begun, and ended, by the same button. By keyboard one begins with a square in the middle.
function drawNew(event) {
  const z = view.zones[view.chosen];
  if (view.drawing) {
    view.drawing = false;
    if (z.points.length === 0) z.points = [[40, 40], [60, 40], [60, 60], [40, 60]];
    if (z.points.length < 3) { view.zones.splice(view.chosen, 1); view.chosen = -1; notice(t("three-corners"), true); }
  } else {
    view.zones.push({ name: freeName(), was: null, kind: "ignored", points: [], start_at: 0, stay_at: 0 });
    view.chosen = view.zones.length - 1;
    view.drawing = true;
  }
  draw();
  if (!view.drawing) tryZones();
  event.target.focus();
}

// ---- the view

// Of many, one picture does: each costs the station's data.
async function run() {
  if (view.running) return;
  view.running = true;
  while (view.on) {
    try {
      const p = await picture(camera(), view.number);
      const canvas = $("zones-picture");
      view.number = p.number;
      canvas.width = p.bitmap.width;
      canvas.height = p.bitmap.height;
      setShape(p.bitmap.width, p.bitmap.height);
      canvas.getContext("2d").drawImage(p.bitmap, 0, 0);
      p.bitmap.close();
      $("zones-said").textContent = "";
      if (state.me.many) break;
      await pause(300);
    } catch { await pause(1000); }
  }
  view.running = false;
}

async function open() {
  if (!camera()) return;
  try {
    const a = await ask("/api/zones/" + encodeURIComponent(inSettings()));
    view.saved = a.zones;
    view.zones = clone(a.zones).map((z) => Object.assign(z, { was: z.name }));
    view.chosen = -1;
    view.drawing = false;
    view.number = 0;
    draw();
    tryZones();
  } catch (e) { complain(e); }
}

async function write() {
  try {
    const done = await save(changes());
    if (!done) return;
    view.saved = clone(view.zones);
    for (const z of view.zones) z.was = z.name;
    draw();
    if (state.me.many) notice(t("zones-sent"));
  } catch (e) { complain(e); }
}

export function begin() {
  setShape(16, 9);
  $("zones-new").addEventListener("click", drawNew);
  $("zones-save").addEventListener("click", write);
  $("zones-back").addEventListener("click", open);
  $("zones-shapes").addEventListener("pointerdown", (event) => {
    if (!view.drawing) { choose(-1); return; }
    const z = view.zones[view.chosen];
    if (z.points.length < 64) z.points.push(at(event));
    drawShapes();
  });
}

let timer = 0;
export async function enter(name) {
  view.camera = name;
  view.on = true;
  $("zones-last").hidden = Boolean(state.me.many);
  $("zones-said").textContent = state.me.many ? t("picture-asked") : "";
  run();
  await open();
  clearInterval(timer);
  timer = setInterval(() => { if (!document.hidden && !view.drawing) tryZones(); }, 3000);
}
export function leave() { view.on = false; clearInterval(timer); }
