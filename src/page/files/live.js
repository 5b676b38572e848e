// Live: a tile for each camera, what the detector sees drawn over it, and a magnifier for focusing.
import { $, ask, button, clock, complain, count, make, mayRun, notice, along, pause, percent, picture, shape, state } from "./common.js";

const tiles = new Map();
let looking = false;

// ---- the meter

function makeMeter(name) {
  const svg = shape("svg", { viewBox: "0 0 1000 20", preserveAspectRatio: "none", "aria-hidden": "true" });
  const parts = { level: shape("rect", { class: "level", x: 0, y: 0, width: 0, height: 20 }),
    stay: shape("line", { class: "tick stay", y1: 0, y2: 20 }), start: shape("line", { class: "tick", y1: 0, y2: 20 }),
    peak: shape("line", { class: "peak", y1: 0, y2: 20, opacity: 0 }) };
  svg.append(parts.level, parts.stay, parts.start, parts.peak);
  const box = make("div", { class: "meter", role: "meter", "aria-label": "Activity of " + name, "aria-valuemin": 0, "aria-valuemax": 100, "aria-valuenow": 0 });
  box.append(svg);
  return { box, parts, highest: 0, when: 0 };
}

function setMeter(m, c) {
  const at = (line, x) => { line.setAttribute("x1", 1000 * x); line.setAttribute("x2", 1000 * x); };
  m.parts.level.setAttribute("width", 1000 * along(c.activity));
  m.parts.level.classList.toggle("start", c.activity >= c.start_at);
  at(m.parts.start, along(c.start_at)); at(m.parts.stay, along(c.stay_at));
  const now = Date.now();
  if (c.activity >= m.highest || now - m.when > 3000) { m.highest = c.activity; m.when = now; }
  at(m.parts.peak, along(m.highest));
  m.parts.peak.setAttribute("opacity", m.highest > 0 ? 1 - (now - m.when) / 4000 : 0);
  m.box.setAttribute("aria-valuenow", c.activity.toFixed(2));
  m.box.setAttribute("aria-valuetext", percent(c.activity) + " percent, a sighting begins at " + percent(c.start_at) + " and lasts down to " + percent(c.stay_at));
}

// ---- what the detector sees

// What a cell's letter stands for, and the name of its pattern.
const CELLS = [["m", "counts as motion"], ["t", "has not travelled like a subject"], ["s", "too small or too large"],
  ["l", "taken by the light guard"], ["w", "taken by the sway guard"], ["k", "taken by the shake guard"], ["i", "moves where nothing is watched"]];

function patterns(scale) {
  const draw = { m: "M0 0H12V12H0Z", t: "M0 6H12", s: "M6 6m-2 0a2 2 0 1 0 4 0a2 2 0 1 0 -4 0", l: "M0 12L12 0", w: "M0 0L12 12", k: "M0 0L12 12M0 12L12 0", i: "M6 0V12" };
  const defs = shape("defs", {});
  for (const [letter] of CELLS)
    defs.append(shape("pattern", { id: "cell-" + letter, width: 12, height: 12, patternUnits: "userSpaceOnUse", patternTransform: "scale(" + scale + ")" },
      shape("path", { class: "hatch hatch-" + letter, d: draw[letter] })));
  return defs;
}

function cellPath(reading, letter, w, h) {
  const g = reading.grid, dx = g.cell_px * w / g.width, dy = g.cell_px * h / g.height;
  let d = "";
  for (let i = reading.cells.indexOf(letter); i >= 0; i = reading.cells.indexOf(letter, i + 1))
    d += "M" + ((i % g.columns) * dx).toFixed(1) + " " + (Math.floor(i / g.columns) * dy).toFixed(1) + "h" + dx.toFixed(1) + "v" + dy.toFixed(1) + "h" + (-dx).toFixed(1) + "z";
  return d;
}

export function zoneShape(z, w, h) {
  return shape("polygon", { class: "zone zone-" + z.kind, points: z.points.map(([x, y]) => (x * w / 100).toFixed(1) + "," + (y * h / 100).toFixed(1)).join(" ") });
}

function drawOverlay(t, reading) {
  const w = t.canvas.width, h = t.canvas.height, scale = w / Math.max(1, t.canvas.clientWidth), px = 13 * scale;  // as large on any screen
  t.overlay.setAttribute("viewBox", "0 0 " + w + " " + h);
  const parts = [patterns(scale)];
  for (const z of t.zones || []) {
    parts.push(zoneShape(z, w, h));
    const [x, y] = z.points[0];
    parts.push(shape("text", { class: "label", x: x * w / 100 + px / 2, y: Math.max(px * 1.2, y * h / 100 + px), "font-size": px }, z.name));
  }
  for (const [letter] of CELLS) {
    const d = cellPath(reading, letter, w, h);
    if (d) parts.push(shape("path", { class: "cells", d, fill: "url(#cell-" + letter + ")" }));
  }
  for (const b of reading.seen) {
    parts.push(shape("rect", { class: b.counted ? "blob" : "blob not", x: b.left * w / 100, y: b.top * h / 100, width: (b.right - b.left) * w / 100, height: (b.bottom - b.top) * h / 100 }));
    if (b.counted)
      parts.push(shape("text", { class: "label", x: b.left * w / 100, y: Math.max(px, b.top * h / 100 - px / 3), "font-size": px }, percent(b.size) + " %, gone " + percent(b.travel) + " %"));
  }
  t.overlay.replaceChildren(...parts);
  setLegend(t, reading);
}

// What it would be called by somebody who cannot see the picture.
function setLegend(t, r) {
  const said = [percent(r.activity) + " % counts"];
  for (const [key, words] of [["light", "taken by the light guard"], ["sway", "taken by the sway guard"], ["shake", "taken by the shake guard"],
    ["colour", "moves by its colour alone"], ["unlike", "moves only as it is unlike what is near"], ["size", "too small or too large"], ["travel", "not travelling like a subject"], ["ignored", "of the picture moves outside what is watched"]])
    if (r[key] > 0) said.push(percent(r[key]) + " % " + words);
  if (r.whole_picture) said.push("the whole picture turned");
  t.said.textContent = said.join(", ") + ". " + count(r.subjects, "subject") + ".";
  const there = new Set(r.cells);
  t.legend.replaceChildren(...CELLS.filter(([letter]) => there.has(letter)).map(([letter, words]) => {
    const key = shape("svg", { viewBox: "0 0 24 12", width: 24, height: 12, "aria-hidden": "true" }, patterns(1), shape("rect", { width: 24, height: 12, class: "cells", fill: "url(#cell-" + letter + ")" }));
    return make("li", {}, key, " " + words);
  }));
}

// ---- focusing

const MAGNIFIED = 160;  // pixels of the full picture, across

function box(t) {
  const w = t.canvas.width, h = t.canvas.height, side = Math.min(MAGNIFIED, w, h);
  const x = Math.max(0, Math.min(w - side, t.at[0] * w - side / 2)), y = Math.max(0, Math.min(h - side, t.at[1] * h - side / 2));
  return { x, y, side, percent: [x / w, y / h, (x + side) / w, (y + side) / h].map((v) => (100 * v).toFixed(2)).join(",") };
}

function drawGlass(t) {
  const b = box(t), pen = t.glass.getContext("2d");
  t.glass.width = t.glass.height = 2 * MAGNIFIED;
  pen.imageSmoothingEnabled = false;
  pen.drawImage(t.canvas, b.x, b.y, b.side, b.side, 0, 0, t.glass.width, t.glass.height);
}

function setSharpness(t, figure) {
  if (figure < 0) return;
  t.best = Math.max(t.best, figure);
  t.sharp.textContent = "sharpness " + figure.toFixed(2) + ", best so far " + t.best.toFixed(2);
  t.gauge.value = t.best > 0 ? figure / t.best : 0;
}

function aim(t, x, y) {
  t.at = [Math.max(0, Math.min(1, x)), Math.max(0, Math.min(1, y))];
  t.best = 0;
  if (t.canvas.width) drawGlass(t);
}

function aimByKey(event, t) {
  const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  if (!t.focusing || !step) return;
  event.preventDefault();
  aim(t, t.at[0] + step[0] * 0.02, t.at[1] + step[1] * 0.02);
}

// ---- tiles

function order(what, camera, extra) {
  return async () => {
    try { await ask("/api/order", Object.assign({ do: what, camera }, extra)); notice(""); }
    catch (e) { complain(e); }
  };
}

function pressed(text, on) {
  const b = button(text, () => { const now = b.getAttribute("aria-pressed") !== "true"; b.setAttribute("aria-pressed", String(now)); on(now); }, { "aria-pressed": "false" });
  return b;
}

function makeTile(c) {
  const t = { name: c.camera, meter: makeMeter(c.camera), number: 0, at: [0.5, 0.5], best: 0, overlaid: false, focusing: false, lost: false };
  t.canvas = make("canvas", { role: "img", "aria-label": "Live picture of " + c.camera });
  t.overlay = shape("svg", { class: "overlay", preserveAspectRatio: "none", "aria-hidden": "true" });
  t.state = make("span", { class: "state" });
  t.line = make("small", {});
  t.level = make("small", {});
  t.said = make("p", { class: "small said" });
  t.legend = make("ul", { class: "legend" });
  t.glass = make("canvas", { class: "glass", role: "img", "aria-label": "Middle of the picture, each pixel as two" });
  t.sharp = make("span", { class: "sharp" }, "sharpness");
  t.gauge = make("progress", { max: 1, value: 0, "aria-label": "Sharpness, of the best so far" });
  t.loud = make("small", {});
  t.loudness = make("progress", { max: 60, value: 0, "aria-label": "How loud it is there, of 60 decibels" });
  t.heard = make("div", { class: "ends", hidden: true }, t.loud, t.loudness);
  t.more = make("div", { hidden: true }, t.said, t.legend);
  t.focus = make("div", { class: "focus", hidden: true }, t.glass, make("div", {}, make("p", {}, t.sharp), t.gauge,
    make("p", { class: "small" }, "Turn the lens until the figure is highest. Choose a place by a tap on the picture, or by the arrow keys.")));
  t.element = make("article", { class: "tile", "aria-label": c.camera });
  t.large = button("Large", () => {}, {});
  const show = make("button", { type: "button", class: "picture", "aria-label": c.camera + ": larger, or smaller",
    onclick: (event) => {
      const r = show.getBoundingClientRect();
      if (t.focusing && event.detail > 0) aim(t, (event.clientX - r.left) / r.width, (event.clientY - r.top) / r.height);
      else t.element.classList.toggle("large");
    }, onkeydown: (event) => aimByKey(event, t) }, t.canvas);
  const tools = make("div", { class: "bar" },
    pressed("Overlay", (on) => { t.overlaid = on; t.more.hidden = !on; t.element.classList.toggle("overlaid", on); if (on) loadZones(t); }),
    pressed("Focus", (on) => { t.focusing = on; t.focus.hidden = !on; t.best = 0; }));
  if (mayRun())
    tools.append(button("Arm", order("arm", c.camera)), button("Disarm for 1 h", order("disarm", c.camera, { for_s: 3600 })),
      button("Trigger", order("trigger", c.camera)), button("Snap", order("snap", c.camera)));
  t.element.append(make("div", { class: "shown" }, show, t.overlay), make("div", { class: "body" },
    make("div", { class: "ends" }, make("h2", {}, c.camera), t.state), t.meter.box, make("div", { class: "ends" }, t.level, t.line), t.heard, tools, t.more, t.focus));
  $("tiles").append(t.element);
  return t;
}

function loadZones(t) {
  ask("/api/zones/" + encodeURIComponent(t.name)).then((a) => { t.zones = a.zones; }).catch(() => {});
}

// Sound is seen, not heard: what is said before a camera is nobody's business who looks at it.
function setSound(t, level) {
  t.heard.hidden = level === undefined;
  if (level === undefined) return;
  t.loudness.value = Math.max(0, 60 + level);
  t.loud.textContent = "sound " + level.toFixed(0).replace("-", "\u2212") + " dB";
}

function setTile(t, c) {
  t.lost = c.state === "lost";
  t.state.textContent = c.state;
  t.state.className = "state " + c.state;
  setMeter(t.meter, c);
  t.level.textContent = percent(c.activity) + " %, limit " + percent(c.start_at) + " %";
  setSound(t, c.sound);
  t.line.textContent = c.lost_why ? c.lost_why : c.last ? count(c.sightings, "sighting") + ", last at " + clock(c.last) : "no sighting yet";
}

// As the picture is, turned and cropped; what is drawn over it lies on it exactly.
function setShape(t, width, height) {
  if (t.canvas.width === width && t.canvas.height === height) return;
  t.canvas.width = width;
  t.canvas.height = height;
  t.canvas.parentElement.style.aspectRatio = width + " / " + height;
  t.element.style.setProperty("--shape", String(width / height));
}

// ---- pictures

async function draw(t) {
  const p = await picture(t.name, t.number);
  t.number = p.number;
  setShape(t, p.bitmap.width, p.bitmap.height);
  t.canvas.getContext("2d").drawImage(p.bitmap, 0, 0);
  p.bitmap.close();
  if (t.focusing) drawGlass(t);
  if (!t.overlaid && !t.focusing) return;
  const r = await ask("/api/readings/" + encodeURIComponent(t.name) + (t.focusing ? "?sharp=" + box(t).percent : ""));
  if (t.overlaid) drawOverlay(t, r);
  if (t.focusing) setSharpness(t, r.sharpness);
}

// As long as somebody looks. Many cameras are drawn more slowly, but for the large one.
async function run(t) {
  if (t.running) return;
  t.running = true;
  while (looking && tiles.get(t.name) === t) {
    if (document.hidden || t.lost) { await pause(500); continue; }
    try {
      await draw(t);
      if (tiles.size > 4 && !t.element.classList.contains("large") && !t.overlaid && !t.focusing) await pause(1000);
    } catch { await pause(1000); }
  }
  t.running = false;
}

export function refresh(status) {
  const there = new Set(status.cameras.map((c) => c.camera));
  for (const [name, t] of tiles) if (!there.has(name)) { t.element.remove(); tiles.delete(name); }
  for (const c of status.cameras) {
    if (!tiles.has(c.camera)) tiles.set(c.camera, makeTile(c));
    setTile(tiles.get(c.camera), c);
    if (looking) run(tiles.get(c.camera));
  }
}

export function enter() { looking = true; for (const t of tiles.values()) run(t); }
export function leave() { looking = false; }
export function clear() { looking = false; tiles.clear(); $("tiles").replaceChildren(); }
