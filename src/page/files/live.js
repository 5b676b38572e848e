// Live: cameras as large as the window has room, with what can be done over the picture.
import { $, ask, button, complain, icon, idWords, isNarrow, make, mayRun, menuButton, notice, number, pause, percent, picture, shape, signed, state, t, when } from "./common.js";
import { drawOverlay, makeMeter, setMeter } from "./overlay.js";
import * as focus from "./focus.js";
import { disarmWays, isByOrder, isDisarmed, setState, stateReason } from "./states.js";

const tiles = new Map();
let looking = false, enlarged = "", timer = 0;

// ---- orders

async function order(what, camera, extra) {
  try { await ask("/api/order", Object.assign({ do: what, camera }, extra)); notice(""); }
  catch (e) { complain(e); }
}

const makeDisarm = (one) => menuButton("off", t("disarm-dots"), disarmWays((how) => order("disarm", one.name, how)));

function toggle(sign, text, on) {
  const b = signed(sign, text, () => { const now = b.getAttribute("aria-pressed") !== "true"; b.setAttribute("aria-pressed", String(now)); on(now); }, { "aria-pressed": "false" });
  return b;
}

function makeActs(one) {
  one.acts = { arm: signed("armed", t("arm-now"), () => order("arm", one.name), { class: "btn act" }), disarm: makeDisarm(one), set: button(t("by-settings"), () => order("as-set", one.name)),
    still: signed("still", t("take-still"), () => order("snap", one.name).then(() => notice(t("still-taken", { camera: one.name })))), trigger: signed("trigger", t("start-sighting"), () => order("trigger", one.name)) };
  one.source = make("a", { class: "btn", href: "#settings/camera/" + one.name }, t("to-its-settings"));
  return mayRun() ? [...Object.values(one.acts), one.source] : [];
}

// What makes no sense now is not there.
function setActs(one, c) {
  if (!mayRun()) return;
  const off = isDisarmed(c), gone = c.state === "lost" || c.state === "closed";
  one.acts.arm.hidden = !off || gone;
  one.acts.disarm.hidden = off || gone;
  one.acts.set.hidden = !isByOrder(c) || gone;
  one.acts.still.hidden = gone || c.state === "starting";
  one.acts.trigger.hidden = gone || c.state === "starting" || c.state === "sighting";
  one.source.hidden = !gone || Boolean(state.me.cameras);
}

// ---- tiles

function makeFocus(one) {
  one.glass = make("canvas", { class: "glass", role: "img", "aria-label": t("glass") });
  one.sharp = make("span", { class: "sharp" }, "\u2013");
  one.bestSaid = make("span", { class: "small dim" });
  one.gauge = make("progress", { max: 1, value: 0, "aria-label": t("sharpness-share") });
  one.focus = make("div", { class: "focus", hidden: true }, one.glass, make("div", {}, make("p", { class: "small" }, t("sharpness")), make("p", { class: "lead" }, one.sharp, one.bestSaid), one.gauge, make("p", { class: "small" }, t("focus-help"))));
  return one.focus;
}

function makeSeen(one) {
  one.said = make("p", { class: "small said" });
  one.legend = make("ul", { class: "legend" });
  const guards = make("input", { type: "checkbox", class: "form-check-input", id: "guards-" + one.name, onchange: () => { one.guards = guards.checked; } });
  one.more = make("div", { class: "seen-now", hidden: true }, one.said, one.legend, make("label", { class: "small row", for: guards.id }, guards, t("show-guards")));
  return one.more;
}

function makePicture(one) {
  one.canvas = make("canvas", { role: "img", "aria-label": t("live-of", { camera: one.name }) });
  one.overlay = shape("svg", { class: "overlay", preserveAspectRatio: "none", "aria-hidden": "true" });
  const show = make("button", { type: "button", class: "picture", "aria-label": t("larger", { camera: one.name }),
    onclick: (event) => {
      const r = show.getBoundingClientRect();
      if (one.focusing && event.detail > 0) focus.aim(one, (event.clientX - r.left) / r.width, (event.clientY - r.top) / r.height);
      else location.hash = enlarged === one.name ? "#live" : "#live/" + idWords(one.name);
    }, onkeydown: (event) => focus.aimByKey(event, one) }, one.canvas);
  one.waiting = make("span", { class: "waits small" }, t("waits-picture"));
  return [show, one.overlay, one.waiting];
}

function makeViewing(one) {
  return make("span", { class: "bar viewing" },
    toggle("overlay", t("overlay"), (on) => { one.overlaid = on; one.more.hidden = !on; one.element.classList.toggle("overlaid", on); if (on) loadZones(one); }),
    toggle("focus", t("focus"), (on) => { one.focusing = on; one.focus.hidden = !on; one.best = 0; if (on && !isNarrow()) location.hash = "#live/" + one.name; }),  // a small one has no room for it
    button(icon("full"), () => (document.fullscreenElement ? document.exitFullscreen() : one.frame.requestFullscreen()).catch(() => {}), { class: "btn ic", "aria-label": t("full-screen"), title: t("full-screen") }));
}

function makeTile(c) {
  const one = { name: c.camera, meter: makeMeter(c.camera), number: 0, at: [0.5, 0.5], best: 0, overlaid: false, focusing: false, lost: false, guards: false };
  one.state = make("span", {});
  one.time = make("span", { class: "small" });
  one.level = make("span", { class: "small" });
  one.peak = make("span", { class: "small" });
  one.loud = make("span", { class: "small" });
  one.loudness = make("progress", { max: 60, value: 0, "aria-label": t("loudness") });
  one.heard = make("div", { class: "level", hidden: true }, one.loud, one.loudness, make("span", {}));
  one.words = make("p", { class: "words" });
  one.trace = shape("svg", { class: "past", viewBox: "0 0 1000 60", preserveAspectRatio: "none", "aria-hidden": "true" });
  const foot = make("div", { class: "over doing" }, make("div", { class: "level" }, one.level, one.meter.box, one.peak), one.heard, make("div", { class: "bar acts" }, ...makeActs(one), makeViewing(one)));
  one.frame = make("div", { class: "frame" }, ...makePicture(one), make("div", { class: "over head" }, make("h2", {}, c.camera), one.state), make("div", { class: "over time" }, one.time), foot, makeFocus(one));
  one.past = make("div", { class: "past-box", hidden: true }, one.trace, make("div", { class: "ends small dim" }, make("span", {}, t("ten-minutes-ago")), make("span", {}, t("now"))));
  one.element = make("article", { class: "tile", "aria-label": c.camera }, one.frame, make("div", { class: "below" }, one.words, makeSeen(one), one.past));
  if (state.me.many) ofMany(one, foot);
  setShape(one, c.width || 16, c.height || 9);
  $("tiles").append(one.element);
  return one;
}

// Of many, levels and zones stay with their stations; a picture is asked for over the broker, and costs the station's data.
const FEW = 4;
const isLooked = (one) => !state.me.many || enlarged === one.name || tiles.size <= FEW;
function ofMany(one, foot) {
  for (const e of [foot.querySelector(".level"), foot.querySelector(".viewing"), one.past, one.time.parentElement]) e.remove();
  one.waiting.textContent = t("tap-to-look");
}

function loadZones(one) {
  ask("/api/zones/" + encodeURIComponent(one.name)).then((a) => { one.zones = a.zones; }).catch(() => {});
}

// Sound is seen, not heard: what is said before a camera is nobody's business who looks at it.
function setSound(one, level) {
  one.heard.hidden = level === undefined;
  if (level === undefined) return;
  one.loudness.value = Math.max(0, 60 + level);
  one.loud.textContent = t("sound", { level: number(level).replace("-", "\u2212") });
}

function wordCamera(c) {
  const parts = [t("state." + c.state), stateReason(c)].filter(Boolean).join(", ") + ".";
  const came = c.state === "lost" ? c.lost_why || "" : c.sightings > 0 ? t("so-far", { n: c.sightings }) + (c.state === "sighting" ? " " + t("last-runs") : c.last ? " " + t("last-at", { when: when(c.last) }) : "") : t("none-so-far");
  return [parts, make("span", { class: "dim" }, " " + came)];
}

function setTile(one, c) {
  one.lost = ["lost", "closed", "down"].includes(c.state);
  one.element.classList.toggle("lost", one.lost);
  setState(one.state, c);
  setActs(one, c);
  if (!state.me.many) setMeter(one.meter, c);
  if (state.me.many) { const words = wordCamera(c); if (one.words.textContent !== words.map((w) => w.textContent || w).join("")) one.words.replaceChildren(...words); return; }
  one.level.textContent = t("level-begins", { now: percent(c.activity), start: percent(c.start_at) });
  one.peak.textContent = t("peak-of", { peak: percent(one.meter.highest) });
  setSound(one, c.sound);
  one.time.textContent = c.frame ? when(c.frame) : "";
  one.time.parentElement.hidden = !c.frame || !one.lost;
  const words = wordCamera(c), text = words.map((w) => typeof w === "string" ? w : w.textContent).join("");
  if (one.words.textContent !== text) one.words.replaceChildren(...words);
}

// As the picture is, turned and cropped; what is drawn over it lies on it exactly.
function setShape(one, width, height) {
  if (one.aspect === width / height) return;
  one.aspect = width / height;
  one.frame.style.setProperty("--shape", String(one.aspect));
  if (looking) arrange();
}

// ---- room: the columns that waste least

const GAP = 16;

function tileWidth(width, height, count, aspect, most) {
  let best = 0;
  for (let columns = 1; columns <= count; columns++) {
    const rows = Math.ceil(count / columns), w = Math.min((width - GAP * (columns - 1)) / columns, ((height - GAP * (rows - 1)) / rows) * aspect);
    best = Math.max(best, w);
  }
  return Math.max(Math.min(240, width), Math.min(best, most));
}

function arrange() {
  const box = $("tiles"), width = box.clientWidth, top = box.getBoundingClientRect().top + scrollY, one = tiles.get(enlarged);
  if (!width || tiles.size === 0) return;
  const below = one ? 96 : 44, height = Math.max(240, innerHeight - top - GAP), aspect = Math.min(...[...tiles.values()].map((o) => o.aspect));
  box.classList.toggle("has-large", Boolean(one));
  for (const o of tiles.values()) {
    o.element.classList.toggle("large", o === one);
    o.element.classList.toggle("small-tile", Boolean(one) && o !== one);
    o.past.hidden = o !== one;
  }
  const side = one && tiles.size > 1 ? (innerWidth >= 1900 ? 300 : 216) + GAP : 0;
  if (one) box.style.setProperty("--tile", Math.round(Math.max(240, Math.min(width - side, (height - below) * one.aspect))) + "px");
  else box.style.setProperty("--tile", Math.floor(tileWidth(width, height - below * Math.ceil(Math.sqrt(tiles.size)), tiles.size, aspect, width)) + "px");
  box.style.setProperty("--side", Math.max(0, side - GAP) + "px");
  if (one && box.firstElementChild !== one.element) box.prepend(one.element);
}

// ---- what was lately, below the large one

async function drawPast(one) {
  const until = Date.now(), from = until - 600e3, a = await ask("/api/traces/" + encodeURIComponent(one.name) + "?from=" + from + "&until=" + until + "&points=300");
  const c = state.cameras.find((x) => x.camera === one.name);
  const top = Math.max(0.02, Math.sqrt(Math.max(...a.ppm, 0) / 1e6), c ? Math.sqrt(c.start_at / 100) : 0) * 1.15;
  const y = (share) => (60 - 60 * Math.min(1, Math.sqrt(Math.max(0, share)) / top)).toFixed(1);
  let d = "M0 60";
  a.ppm.forEach((p, i) => { d += "L" + (1000 * (a.from + i * a.step_s * 1000 - from) / 600e3).toFixed(1) + " " + y(Math.max(0, p) / 1e6); });
  const line = (share, kind) => shape("line", { class: kind, x1: 0, x2: 1000, y1: y(share / 100), y2: y(share / 100) });
  one.trace.replaceChildren(shape("path", { class: "trace", d: d + "V60Z" }), ...(c ? [line(c.start_at, "start"), line(c.stay_at, "stay")] : []));
}

// ---- pictures

async function draw(one) {
  const p = await picture(one.name, one.number);
  one.number = p.number;
  one.waiting.hidden = true;
  if (one.canvas.width !== p.bitmap.width || one.canvas.height !== p.bitmap.height) {
    one.canvas.width = p.bitmap.width;
    one.canvas.height = p.bitmap.height;
  }
  setShape(one, p.bitmap.width, p.bitmap.height);
  one.canvas.getContext("2d").drawImage(p.bitmap, 0, 0);
  p.bitmap.close();
  if (one.focusing) focus.drawGlass(one);
  if (!one.overlaid && !one.focusing) return;
  const r = await ask("/api/readings/" + encodeURIComponent(one.name) + (one.focusing ? "?sharp=" + focus.box(one).percent : ""));
  if (one.overlaid) drawOverlay(one, r);
  if (one.focusing) focus.setSharpness(one, r.sharpness);
}

// As long as somebody looks. Many cameras are drawn more slowly, but for the large one.
async function run(one) {
  if (one.running) return;
  one.running = true;
  while (looking && tiles.get(one.name) === one) {
    if (document.hidden || one.lost || !isLooked(one)) { await pause(500); continue; }
    if (state.me.many && one.number === 0) one.waiting.textContent = t("waits-picture");
    try {
      await draw(one);
      if (tiles.size > 4 && enlarged !== one.name && !one.overlaid && !one.focusing) await pause(1000);
    } catch { await pause(1000); }
  }
  one.running = false;
}

function showEmpty() {
  if (tiles.size > 0) { const e = $("tiles").querySelector(".blank"); if (e) e.remove(); return; }
  if (!$("tiles").querySelector(".blank"))
    $("tiles").append(make("div", { class: "blank" }, make("p", {}, t(state.me.many ? "choose-fewer" : "no-camera")), mayRun() && !state.me.many ? make("a", { class: "btn act", href: "#settings/add" }, t("add-camera")) : ""));
}

export function refresh(status) {
  const there = new Set(status.cameras.map((c) => c.camera)), before = tiles.size;
  for (const [name, one] of tiles) if (!there.has(name)) { one.element.remove(); tiles.delete(name); if (enlarged === name) enlarged = ""; }
  for (const c of status.cameras) {
    if (!tiles.has(c.camera)) tiles.set(c.camera, makeTile(c));
    setTile(tiles.get(c.camera), c);
    if (looking) run(tiles.get(c.camera));
  }
  showEmpty();
  if (looking && before !== tiles.size) arrange();
}

export function begin() {
  addEventListener("resize", () => { if (looking) arrange(); });
  document.addEventListener("keydown", (event) => { if (event.key === "Escape" && looking && enlarged && !document.fullscreenElement) location.hash = "#live"; });
}

export function follow(rest) {
  const name = rest.join("/");
  enlarged = tiles.has(name) ? name : "";
  arrange();
  if (enlarged && !state.me.many) drawPast(tiles.get(enlarged)).catch(() => {});
}

export function enter(rest) {
  looking = true;
  if (state.status) refresh(state.status);
  follow(rest);
  for (const one of tiles.values()) run(one);
  timer = setInterval(() => { if (!document.hidden && enlarged && !state.me.many) drawPast(tiles.get(enlarged)).catch(() => {}); }, 5000);
}
export function leave() { looking = false; clearInterval(timer); }
export function clear() { looking = false; tiles.clear(); $("tiles").replaceChildren(); }
