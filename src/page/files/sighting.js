// One sighting: its clip or still, and what is said of it. Whatever is said, the clip goes on where it was.
import { $, address, agree, ask, button, clock, complain, dayWords, icon, idWords, lengthOf, make, mayKeep, mayRun, menuButton, named, notice, pause, percent, shape, signed, size, state, stationOf, t } from "./common.js";

const one = { s: null, names: [], destinations: [], on: null };
const TAKEN = new Set(["j", "k", "s", "r", "n", "x", "u", "h", "l", "p", ".", ","]);
const CHIPS = 8;

export function know(names, destinations) { one.names = names; one.destinations = destinations; setOptions(); }
/** @param on  changed(s), removed(s), back(): what the list does then. */
export function begin(on) { one.on = on; }
export const shown = () => one.s;

function setOptions() {
  $("named-before").replaceChildren(...one.names.map((n) => make("option", { value: n.name }, n.common || "")));
}

// ---- the player

function stills(s) { return s.captures.filter((c) => /\.jpe?g$/.test(c.file)); }

function media(s) {
  const clip = s.captures.find((c) => c.file.endsWith(".mp4")), still = stills(s)[0];
  const image = () => make("img", { src: address(still.file), alt: t("still-of") });
  if (clip) {
    const video = make("video", Object.assign({ controls: true, preload: "metadata", playsinline: true, src: address(clip.file), "aria-label": t("clip-of") }, still ? { poster: address(still.file) } : {}));
    video.addEventListener("error", () => video.replaceWith(still ? image() : "", make("p", { class: "small" }, t("cannot-play"))));
    return { element: video, clip, video };
  }
  if (!s.end) return { element: make("img", { src: "/picture/" + encodeURIComponent(s.camera) + "?at=" + Date.now(), alt: t("live-of", { camera: s.camera }), class: "running" }) };
  return { element: still ? image() : make("span", { class: "none" }, t("no-still")) };
}

// Its level while it ran, below the clip: a tap seeks.
function levelStrip(s, m) {
  const svg = shape("svg", { class: "level-strip", viewBox: "0 0 1000 40", preserveAspectRatio: "none", "aria-hidden": "true" });
  const start = new Date(s.start).getTime(), end = s.end ? new Date(s.end).getTime() : Date.now(), begin = m.clip ? new Date(m.clip.start).getTime() : start - 5000;
  let until = end + 5000;
  const head = shape("line", { class: "head", y1: 0, y2: 40, x1: 0, x2: 0 });
  const x = (time) => (1000 * (time - begin) / (until - begin)).toFixed(1);
  const draw = async () => {
    const a = state.me.many ? null : await ask("/api/traces/" + encodeURIComponent(s.camera) + "?from=" + Math.floor(begin) + "&until=" + Math.ceil(until) + "&points=300").catch(() => null);
    const most = Math.max(...(a ? a.ppm : [0]), 1);
    let d = "M0 40";
    if (a) a.ppm.forEach((p, i) => { d += "L" + x(a.from + i * a.step_s * 1000) + " " + (40 - 38 * Math.sqrt(Math.max(0, p) / most)).toFixed(1); });
    svg.replaceChildren(shape("rect", { class: "ran", x: x(start), y: 36, width: Math.max(2, x(end) - x(start)), height: 4 }), shape("path", { class: "trace", d: d + "V40Z" }),
      shape("line", { class: "edge", x1: x(start), x2: x(start), y1: 0, y2: 40 }), shape("line", { class: "edge", x1: x(end), x2: x(end), y1: 0, y2: 40 }), ...(m.video ? [head] : []));
  };
  if (m.video) {
    m.video.addEventListener("loadedmetadata", () => { if (m.video.duration > 0) until = begin + m.video.duration * 1000; draw(); });
    m.video.addEventListener("timeupdate", () => { for (const k of ["x1", "x2"]) head.setAttribute(k, x(begin + m.video.currentTime * 1000)); });
    svg.addEventListener("click", (event) => { const r = svg.getBoundingClientRect(); m.video.currentTime = (event.clientX - r.left) / r.width * (until - begin) / 1000; });
  }
  draw();
  return svg;
}

const frameTime = () => 1 / (state.fps.get(one.s && one.s.camera) || 10);
const video = () => $("detail").querySelector("video");
export function step(by) { const v = video(); if (v) { v.pause(); v.currentTime += by * frameTime(); } }
export function play() { const v = video(); if (v) { if (v.paused) v.play(); else v.pause(); } }
export function pauseAll() { for (const v of $("detail").querySelectorAll("video")) v.pause(); }

function swiped(box) {
  let from = null;
  box.addEventListener("pointerdown", (event) => { from = event.pointerType === "touch" ? [event.clientX, event.clientY] : null; });
  box.addEventListener("pointerup", (event) => {
    if (!from) return;
    const dx = event.clientX - from[0], dy = event.clientY - from[1];
    if (Math.abs(dx) > 60 && Math.abs(dx) > 2 * Math.abs(dy)) one.on.go(dx < 0 ? 1 : -1);
    from = null;
  });
}

function player(s) {
  const m = media(s), camera = state.cameras.find((c) => c.camera === s.camera), frame = make("div", { class: "frame" }, m.element);
  if (camera && camera.width) frame.style.setProperty("--shape", String(camera.width / camera.height));
  swiped(frame);
  const steps = m.video ? [button(icon("fback"), () => step(-1), { class: "btn bare ic", "aria-label": t("frame-back") }), button(icon("ffwd"), () => step(1), { class: "btn bare ic", "aria-label": t("frame-on") })] : [];
  return make("div", { class: "player" }, button([icon("prev"), make("span", {}, t("to-list"))], () => one.on.back(), { class: "btn bare narrow" }), frame,
    make("div", { class: "bar steps" }, ...steps, levelStrip(s, m)),
    make("p", { class: "small dim" }, dayWords(s.start) + ", " + clock(s.start) + ". " + s.why.charAt(0).toUpperCase() + s.why.slice(1) + ". " + (state.me.many ? "" : t("strip-help"))),
    make("p", { class: "small dim keys" }, ...keyWords()));
}

function keyWords() {
  const own = state.me.many ? ["key.next", "key.play", "key.frame", "key.day", ...(mayRun() ? ["key.star", "key.mark"] : [])] : null;
  const pairs = [[["j", "k"], "key.next"], [["p"], "key.play"], [[",", "."], "key.frame"], [["s"], "key.star"], [["r", "n"], "key.mark"], [["x"], "key.delete"], [["u"], "key.undo"], [["h", "l"], "key.day"]];
  return pairs.filter(([, text]) => !own || own.includes(text)).flatMap(([keys, text]) => [...keys.flatMap((k) => [make("kbd", {}, k), " "]), t(text) + "\u2002 "]);
}

// ---- what is said of it

/** Keys that the list gives, but for those that do something else; then 1 to 9 for names of late. */
function namesByKey() {
  const keys = new Map();
  for (const n of one.names) if (n.key && !TAKEN.has(n.key) && !keys.has(n.key)) keys.set(n.key, n);
  let next = 1;
  for (const n of one.names.filter((m) => !m.key && m.named > 0)) if (next <= 9) keys.set(String(next++), n);
  return keys;
}

// Of many, it is the station that says so, in its own time: it may be away.
const WAIT_MS = 10000;
const holds = (s, into) => Object.entries(into).every(([key, value]) => (s[key] || undefined) === (value || undefined));
async function wait(s, into) {
  for (const end = Date.now() + WAIT_MS; Date.now() < end;) {
    if (holds(await ask("/api/sightings/" + idWords(s.number)), into)) return;
    await pause(400);
  }
  throw new Error(t("not-answered", { station: stationOf(s.camera) }));
}

async function change(s, what, into) {
  try {
    await ask("/api/sightings/" + idWords(s.number), what);
    if (state.me.many) await wait(s, into);
    one.on.changed(Object.assign({}, s, into));
    if (what.name !== undefined) { one.names = (await ask("/api/names")).names; setOptions(); }
    await showFacts(s.number);
  } catch (e) { complain(e); }
}
const giveName = (s, said) => { $("named-save").disabled = true; return change(s, said, { name: said.name || undefined, count: said.count || undefined }); };

function stepper(count) {
  const by = (n) => () => { count.value = Math.max(0, (Number(count.value) || 0) + n) || ""; count.dispatchEvent(new Event("input", { bubbles: true })); };
  return make("span", { class: "stepper" }, button(icon("minus"), by(-1), { class: "btn ic", "aria-label": t("one-less") }), count, button(icon("plus"), by(1), { class: "btn ic", "aria-label": t("one-more") }));
}

function naming(s) {
  const name = make("input", { id: "named", class: "form-control", list: "named-before", value: s.name || "", maxlength: 200, autocomplete: "off", autocapitalize: "none" });
  const count = make("input", { id: "named-count", class: "form-control", type: "number", min: 0, max: 100000, value: s.count || "", inputmode: "numeric", "aria-label": t("how-many") });
  const note = make("textarea", { id: "named-note", class: "form-control", rows: 2, maxlength: 1000 }, s.note || "");
  const write = make("button", { type: "submit", class: "btn", id: "named-save", disabled: true }, t("save"));
  const form = make("form", { class: "naming" }, make("label", { for: "named", class: "small" }, t("what-was-it")), name);
  const chips = make("div", { class: "bar chips" }, ...[...namesByKey()].slice(0, CHIPS).map(([key, n]) =>
    button(make("span", { class: "name" }, n.common || n.name), () => giveName(s, { name: n.name, count: s.count || 0, note: s.note || "" }), { "data-key": key, title: n.name + " (" + key + ")", "aria-pressed": String(s.name === n.name) })));
  form.append(chips, make("label", { for: "named-count", class: "small" }, t("how-many")), stepper(count), make("label", { for: "named-note", class: "small" }, t("note")), note, write);
  form.addEventListener("input", () => { write.disabled = false; });
  form.addEventListener("submit", (event) => { event.preventDefault(); giveName(s, { name: name.value.trim(), count: Number(count.value) || 0, note: note.value.trim() }); });
  if (s.named_by && s.named_by !== "human") form.append(make("p", { class: "small dim" }, s.sure ? t("says-sure", { who: s.named_by, sure: percent(s.sure) }) : t("says", { who: s.named_by })));
  return form;
}

// Pressed once more, nothing is said.
function marking(s) {
  const mark = (name) => { const to = s.mark === name ? "none" : name; return change(s, { mark: to }, { mark: to }); };
  return make("div", {}, make("p", { class: "small" }, t("was-it-right")), make("div", { class: "seg", role: "group", "aria-label": t("was-it-right") },
    signed("check", t("mark.right"), () => mark("right"), { id: "mark-right", "aria-pressed": String(s.mark === "right") }),
    signed("cross", t("mark.nothing"), () => mark("nothing"), { id: "mark-nothing", "aria-pressed": String(s.mark === "nothing") })));
}

async function send(s, destination) {
  try { await ask("/api/sightings/" + idWords(s.number), { send: destination }); notice(t("goes-next", { name: destination })); await showFacts(s.number); }
  catch (e) { complain(e); }
}

async function remove(s) {
  const body = make("p", {}, t("n-files", { n: s.captures.length }) + ", " + size(s.bytes) + (s.starred ? ". " + t("it-is-starred") : "."));
  if (!await agree(t("delete-ask", { n: s.number, camera: s.camera }), body, t("delete"), true)) return;
  try { await ask("/api/sightings/" + idWords(s.number), { remove: true }); one.on.removed(s); }
  catch (e) { complain(e); }
}

const saveLink = (c) => make("a", { class: "btn", href: address(c.file) + "?save=1" }, t("kind." + c.kind.replace(/\W/g, "-")) + ", " + size(c.bytes));

function acts(s) {
  const bar = make("div", { class: "bar acts" });
  if (mayRun()) bar.append(signed(s.starred ? "staron" : "star", t(s.starred ? "starred" : "star"), () => change(s, { star: !s.starred }, { starred: !s.starred }), { id: "star", "aria-pressed": String(s.starred) }));
  if (s.captures.length > 0) bar.append(menuButton("save", t("save-dots"), s.captures.map(saveLink), { id: "save-captures" }));
  if (!mayKeep()) return bar;
  if (one.destinations.length === 1) bar.append(signed("send", t("send-again"), () => send(s, one.destinations[0]), { id: "send-again", title: one.destinations[0] }));
  else if (one.destinations.length > 1) bar.append(menuButton("send", t("send-again"), one.destinations.map((d) => [d, () => send(s, d)]), { id: "send-again" }));
  bar.append(signed("bin", t("delete"), () => remove(s), { id: "delete", class: "btn danger" }));
  return bar;
}

function facts(s) {
  const said = mayRun() ? [naming(s), marking(s)] : s.name ? [make("p", {}, make("span", { class: "name" }, named(s)), s.note ? make("br", {}) : "", s.note || "")] : [];
  return make("div", { class: "facts" }, make("p", { class: "small dim" }, s.camera + " \u00b7 " + lengthOf(s) + " \u00b7 " + t("peak-of", { peak: percent(s.peak) })), ...said, acts(s),
    s.sent + s.unsent > 0 ? make("p", { class: "small dim" }, s.unsent > 0 ? t("sent-waits", { sent: s.sent, n: s.unsent }) : t("all-sent", { n: s.sent })) : "");
}

// What somebody writes is not taken away.
const WRITTEN = ["named", "named-count", "named-note"];
export const isWriting = () => { const save = $("named-save"); return Boolean(save && !save.disabled); };

/** What is said of it, anew; the focus stays where it was. */
export async function showFacts(id) {
  const s = await ask("/api/sightings/" + idWords(id)), box = $("detail").querySelector(".facts");
  if (!box || !one.s || one.s.number !== id) return;
  one.s = s;
  const draft = isWriting() ? WRITTEN.map((id) => $(id).value) : null, at = document.activeElement && box.contains(document.activeElement) ? document.activeElement.id : "";
  box.replaceWith(facts(s));
  if (draft && $("named-save")) { WRITTEN.forEach((id, i) => { $(id).value = draft[i]; }); $("named-save").disabled = false; }
  if (at && $(at)) $(at).focus({ preventScroll: true });
}

/** @return the sighting, once it is shown; null: another one was asked for meanwhile. */
export async function show(id, isWanted) {
  const s = await ask("/api/sightings/" + idWords(id));
  if (!isWanted()) return null;
  one.s = s;
  $("detail").replaceChildren(player(s), facts(s));
  $("detail").dataset.number = id;
  return s;
}
export function clear(...parts) { one.s = null; delete $("detail").dataset.number; $("detail").replaceChildren(...parts); }
