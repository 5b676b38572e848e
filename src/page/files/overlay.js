// What the detector sees: its level beside its limits, and what moves, drawn over the picture.
import { along, make, percent, shape, t } from "./common.js";

// ---- the meter

export function makeMeter(name) {
  const svg = shape("svg", { viewBox: "0 0 1000 20", preserveAspectRatio: "none", "aria-hidden": "true" });
  const parts = { level: shape("rect", { class: "level", x: 0, y: 0, width: 0, height: 20 }),
    stay: shape("line", { class: "limit stay", y1: 0, y2: 20 }), start: shape("line", { class: "limit", y1: 0, y2: 20 }),
    peak: shape("line", { class: "peak", y1: 0, y2: 20, opacity: 0 }) };
  svg.append(parts.level, parts.stay, parts.start, parts.peak);
  const box = make("div", { class: "meter", role: "meter", "aria-label": t("level-of", { camera: name }), "aria-valuemin": 0, "aria-valuemax": 100, "aria-valuenow": 0 });
  box.append(svg);
  return { box, parts, highest: 0, when: 0 };
}

// An axis of square roots, which ends at a ninth of the picture: small things are seen.
const onMeter = (x) => Math.min(1, 3 * along(x));

export function setMeter(m, c) {
  const at = (line, x) => { line.setAttribute("x1", 1000 * x); line.setAttribute("x2", 1000 * x); };
  m.parts.level.setAttribute("width", 1000 * onMeter(c.activity));
  m.parts.level.classList.toggle("start", c.activity >= c.start_at);
  at(m.parts.start, onMeter(c.start_at)); at(m.parts.stay, onMeter(c.stay_at));
  const now = Date.now();
  if (c.activity >= m.highest || now - m.when > 3000) { m.highest = c.activity; m.when = now; }
  at(m.parts.peak, onMeter(m.highest));
  m.parts.peak.setAttribute("opacity", m.highest > 0 ? 1 - (now - m.when) / 4000 : 0);
  m.box.setAttribute("aria-valuenow", c.activity.toFixed(2));
  m.box.setAttribute("aria-valuetext", t("level-said", { now: percent(c.activity), start: percent(c.start_at), stay: percent(c.stay_at) }));
}

// ---- what the detector sees

// What a cell's letter stands for, and the name of its pattern.
const CELLS = ["m", "t", "s", "l", "w", "k", "i"].map((letter) => [letter, t("cell." + letter)]);
const GUARDS = "lwki";  // what they took is shown on demand alone

function patterns(scale) {
  const draw = { m: "M6 6m-1.7 0a1.7 1.7 0 1 0 3.4 0a1.7 1.7 0 1 0 -3.4 0", t: "M0 6H12", s: "M6 6m-2 0a2 2 0 1 0 4 0a2 2 0 1 0 -4 0", l: "M0 12L12 0", w: "M0 0L12 12", k: "M0 0L12 12M0 12L12 0", i: "M6 0V12" };
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

export function drawOverlay(one, reading) {
  const w = one.canvas.width, h = one.canvas.height, scale = w / Math.max(1, one.canvas.clientWidth), px = 13 * scale;  // as large on any screen
  one.overlay.setAttribute("viewBox", "0 0 " + w + " " + h);
  const parts = [patterns(scale)];
  for (const z of one.zones || []) {
    parts.push(zoneShape(z, w, h));
    const [x, y] = z.points[0];
    parts.push(shape("text", { class: "label", x: x * w / 100 + px / 2, y: Math.max(px * 1.2, y * h / 100 + px), "font-size": px }, z.name));
  }
  for (const [letter] of CELLS) {
    if (GUARDS.includes(letter) && !one.guards) continue;
    const d = cellPath(reading, letter, w, h);
    if (d) parts.push(shape("path", { class: "cells", d, fill: "url(#cell-" + letter + ")" }));
  }
  for (const b of reading.seen) {
    parts.push(shape("rect", { class: b.counted ? "blob" : "blob not", x: b.left * w / 100, y: b.top * h / 100, width: (b.right - b.left) * w / 100, height: (b.bottom - b.top) * h / 100 }));
    if (b.counted)
      parts.push(shape("text", { class: "label", x: b.left * w / 100, y: Math.max(px, b.top * h / 100 - px / 3), "font-size": px }, t("travelled", { size: percent(b.size), way: percent(b.travel) })));
  }
  one.overlay.replaceChildren(...parts);
  setLegend(one, reading);
}

// What it would be called by somebody who cannot see the picture.
function setLegend(one, r) {
  const said = [t("counts", { share: percent(r.activity) })];
  for (const key of ["light", "sway", "shake", "colour", "unlike", "size", "travel", "ignored"])
    if (r[key] > 0) said.push(t("took." + key, { share: percent(r[key]) }));
  if (r.whole_picture) said.push(t("whole-picture"));
  one.said.textContent = said.join(", ") + ". " + t("n-subjects", { n: r.subjects }) + ".";
  const there = new Set(r.cells);
  one.legend.replaceChildren(...CELLS.filter(([letter]) => there.has(letter) && (one.guards || !GUARDS.includes(letter))).map(([letter, words]) => {
    const key = shape("svg", { viewBox: "0 0 24 12", width: 24, height: 12, "aria-hidden": "true" }, patterns(1), shape("rect", { width: 24, height: 12, class: "cells", fill: "url(#cell-" + letter + ")" }));
    return make("li", {}, key, " " + words);
  }));
}
