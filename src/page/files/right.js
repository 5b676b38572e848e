// Set right: it begins too often, it misses things; its limits; its zones.
import { $, ask, button, chooser, complain, lasting, make, pause, percent, save, setChooser, signed, state, stillOf, t, when } from "./common.js";
import { sayMissed } from "./missed.js";
import * as limits from "./limits.js";
import * as zones from "./zones.js";
import * as ways from "./ways.js";

const WAYS = ["often", "misses", "limits", "zones"], LATELY = 12;
const view = { way: "", camera: "", sightings: [] };

// ---- 1. marks

const isNothing = (s) => s.mark === "nothing";

function markCard(s) {
  const press = async (name) => {
    const to = s.mark === name ? "none" : name;
    try {
      await ask("/api/sightings/" + s.number, { mark: to });
      s.mark = to;
      card.replaceWith(markCard(s));
      sayMarks();
      propose();
    } catch (e) { complain(e); }
  };
  const card = make("figure", { class: "mark-card" + (isNothing(s) ? " nothing" : ""), "data-id": s.number }, make("a", { class: "frame", href: "#sightings/" + s.number, "aria-label": when(s.start) }, stillOf(s)),
    make("figcaption", { class: "ends small" }, make("b", {}, when(s.start)), make("span", { class: "dim" }, percent(s.peak))),
    make("div", { class: "seg small", role: "group", "aria-label": t("was-it-right") }, signed("check", t("mark.right"), () => press("right"), { "aria-pressed": String(s.mark === "right") }),
      signed("cross", t("mark.nothing-short"), () => press("nothing"), { "aria-pressed": String(isNothing(s)) })));
  return card;
}

function sayMarks() {
  const marked = view.sightings.filter((s) => s.mark !== "none").length;
  $("marks-said").textContent = view.sightings.length === 0 ? "" : t("n-marked", { n: marked, of: view.sightings.length });
}

async function showMarks() {
  view.sightings = (await ask("/api/sightings?most=" + LATELY + "&camera=" + encodeURIComponent(view.camera))).sightings.reverse();
  $("marks-asked").textContent = t(view.way === "often" ? "which-nothing" : "what-missed");
  const parts = view.way === "often" ? view.sightings.map(markCard) : await missedCards();
  if (parts.length === 0) parts.push(make("p", { class: "blank" }, t(view.way === "often" ? "nothing-to-mark" : "nothing-missed")));
  $("marks-row").replaceChildren(...parts);
  if (view.way === "often") sayMarks();
}

// ---- the same where something was missed

async function missedCards() {
  const all = (await ask("/api/missed?camera=" + encodeURIComponent(view.camera) + "&from=" + (Date.now() - 30 * 86400e3))).missed.slice(-LATELY).reverse();
  const cards = all.map((m) => make("div", { class: "mark-card" }, make("b", {}, when(m.at)), make("p", { class: "small dim" }, t("missed-here")), button(t("take-back"), () => ask("/api/missed", { take_back: m.number }).then(again).catch(complain))));
  const add = button(t("something-missed"), () => sayMissed(view.camera, Date.now() - 60e3, again), { id: "right-missed" });
  $("marks-said").replaceChildren(add);
  return cards;
}

// ---- 2. ways

async function useWay(way) {
  try {
    if (!await save(way.changes(view.camera))) return;
    setTimeout(() => propose(), 900);
  } catch (e) { complain(e); }
}

function strip(title, all, gone) {
  if (all.length === 0) return "";
  return make("div", {}, make("p", { class: "small dim" }, title), make("div", { class: "tiny-row" }, ...all.slice(0, 4).map((s) => make("a", { class: "frame tiny" + (gone ? " gone" : ""), href: "#sightings/" + s.number, "aria-label": when(s.start) }, stillOf(s)))));
}

function wayCard(way, first) {
  const few = (all) => Math.min(4, all.length), lost = way.gone.filter((s) => s.mark === "right").length;
  const said = way.untried ? [t("untried-help")] : [t(way.more ? "n-more-than" : "n-stay", { n: way.more ? way.before : way.stay.length }), lost > 0 ? make("b", { class: "lost-right" }, " " + t("n-right-lost", { n: lost })) : way.more ? "" : " " + t("all-right-stay")];
  return make("article", { class: "way" + (first ? " first" : "") }, make("h3", {}, way.title), make("div", { class: "ends" }, make("p", { class: "figure" }, way.headline), button(t("use-this"), () => useWay(way), { class: first ? "btn act" : "btn" })),
    make("p", { class: "small" }, ...said), strip(t("gone-of", { n: few(way.gone), of: way.gone.length }), [...way.gone].sort((a, b) => (b.mark === "right") - (a.mark === "right")), true), strip(t("stays-of", { n: few(way.stay), of: way.stay.length }), way.stay, false));
}

// ---- learnt from all marks, by the station: that takes a while

const RIGHT_LEAST = 3, NOTHING_LEAST = 2;

function learnCard() {
  return make("article", { class: "way", id: "learnt" }, make("h3", {}, t("learn-title")), make("p", { class: "small dim" }, t("learn-help")), make("div", { class: "bar" }, button(t("learn-begin"), beginLearning, { id: "learn" })));
}

async function beginLearning() {
  try { await ask("/api/proposals", { camera: view.camera }); followLearning(); }
  catch (e) { complain(e); }
}

let following = 0;
async function followLearning() {
  const mine = ++following;
  while (mine === following && $("learnt")) {
    const p = await ask("/api/proposals").catch(() => null);
    if (mine !== following || !$("learnt") || !p || p.camera !== view.camera) return;
    if (p.state !== "running") { showLearnt(p); return; }
    $("learnt").replaceChildren(make("h3", {}, t("learn-title")), make("p", { role: "status" }, t("learning", { time: lasting(p.seconds * 1000) })), make("div", { class: "bar" }, button(t("cancel"), () => ask("/api/proposals", { stop: true }).catch(complain), { id: "learn-stop" })));
    await pause(700);
  }
}

async function showLearnt(p) {
  const box = $("learnt"), changes = p.changes || [];
  if (p.state === "failed" || changes.length === 0) {
    box.replaceChildren(make("h3", {}, t("learn-title")), make("p", { class: "small" }, p.state === "failed" ? p.why : t("learn-nothing")), make("div", { class: "bar" }, button(t("try-again"), beginLearning)));
    return;
  }
  const of = (kind, then) => p.marks.filter((m) => m.mark === kind && m.proposed === then);
  const known = new Map(view.sightings.map((s) => [s.number, s])), seen = (all) => all.map((m) => known.get(m.number)).filter(Boolean);
  const gone = of("nothing", false), stay = of("right", true), lost = of("right", false);
  box.className = "way first";
  box.replaceChildren(make("h3", {}, t("learn-title")), make("div", { class: "ends" }, make("p", { class: "figure" }, t("n-nothing-gone", { n: gone.length, of: gone.length + of("nothing", true).length })), button(t("use-this"), () => useWay({ changes: () => changes }), { class: "btn act", id: "learn-use" })),
    make("p", { class: "small" }, t("n-right-stay", { n: stay.length, of: stay.length + lost.length }), ...lost.length > 0 ? [make("b", { class: "lost-right" }, " " + t("n-right-lost", { n: lost.length }))] : []),
    make("ul", { class: "plain small" }, ...changes.map((c) => make("li", {}, c.head === "zone" ? (c.key === "area" ? t("learn-zone") : "") : t("set." + c.key) + ": " + c.value))),
    strip(t("gone-of", { n: Math.min(4, seen(gone).length), of: gone.length }), seen(gone), true), strip(t("stays-of", { n: Math.min(4, seen(stay).length), of: stay.length }), seen(stay), false));
}

async function mayLearn() {
  const marked = (await ask("/api/sightings?most=200&camera=" + encodeURIComponent(view.camera))).sightings;
  const n = (kind) => marked.filter((s) => s.mark === kind).length, p = await ask("/api/proposals").catch(() => ({ able: false }));
  return p.able && n("right") >= RIGHT_LEAST && (n("nothing") >= NOTHING_LEAST || view.way === "misses") ? p : null;
}

let asked = 0;
async function propose() {
  const mine = ++asked, camera = view.camera, way = view.way;
  $("ways-said").textContent = t("trying");
  $("ways-cards").setAttribute("aria-busy", "true");
  try {
    const found = await ways.find(camera, way === "often");
    if (mine !== asked) return;
    $("ways-title").textContent = found.all.length === 0 ? t("no-way") : t(way === "often" ? "ways-fewer" : "ways-more", { n: found.all.length });
    $("ways-said").textContent = t("tried-on", { n: found.sightings, days: t("days", { n: ways.DAYS }) });
    const learning = await mayLearn();
    if (mine !== asked) return;
    $("ways-cards").replaceChildren(...found.all.map((w, i) => wayCard(w, i === 0)), ...learning ? [learnCard()] : [], make("article", { class: "way plain-way" }, make("h3", {}, t("draw-zone")), make("p", { class: "small dim" }, t("draw-zone-help")), make("a", { class: "btn", href: "#right/zones/" + camera }, t("draw-on-picture"))));
    if (learning && learning.camera === camera && learning.state !== "none") followLearning();
  } catch (e) { if (mine === asked) $("ways-said").textContent = e.message; }
  if (mine === asked) $("ways-cards").removeAttribute("aria-busy");
}

const again = () => showMarks().then(propose).catch(complain);

// ---- the view

function titleOf() {
  const key = { often: "often-title", misses: "misses-title", limits: "limits-title", zones: "zones-title" }[view.way];
  return t(key, { camera: view.camera });
}

function leaveWay() {
  following++;
  if (view.way === "limits") limits.leave();
  if (view.way === "zones") zones.leave();
}

async function turn(way, camera) {
  leaveWay();
  view.way = way;
  view.camera = camera;
  for (const w of WAYS) {
    const a = $("way-" + w);
    a.href = "#right/" + w + "/" + camera;
    if (w === way) a.setAttribute("aria-current", "page"); else a.removeAttribute("aria-current");
  }
  $("right-title").textContent = camera ? titleOf() : t("no-camera");
  $("right-marks").hidden = !camera || (way !== "often" && way !== "misses");
  $("right-limits").hidden = !camera || way !== "limits";
  $("right-zones").hidden = !camera || way !== "zones";
  $("right-ways").hidden = Boolean(state.me.many);
  $("right-part").textContent = t(state.me.many ? "view.settings" : "view.right");
  if (!camera) return;
  setChooser($("right-camera"), camera);
  if (way === "limits") await limits.enter(camera);
  else if (way === "zones") await zones.enter(camera);
  else { $("ways-cards").replaceChildren(); await showMarks(); propose(); }
}

const isThere = (name) => state.cameras.some((c) => c.camera === name);

export function begin() {
  limits.begin();
  zones.begin();
}

/** "#right/zones/mere"; of many, "#right/zones/hollin/mere": what is sent goes to that station alone. */
export async function enter(rest) {
  const asked = rest.slice(1).join("/");
  if (state.me.many && asked && state.scope !== "station:" + rest[1]) { state.choose("station:" + rest[1]); return; }
  const names = state.cameras.map((c) => c.camera), camera = isThere(asked) ? asked : isThere(view.camera) ? view.camera : names[0] || "";
  $("right-cameras").replaceChildren(chooser("right-camera", t("camera"), names.map((n) => [n, n]), camera, (name) => { location.hash = "#right/" + view.way + "/" + name; }));
  await turn(WAYS.includes(rest[0]) ? rest[0] : view.way || "often", camera).catch(complain);
}
export const follow = enter;
export function leave() { leaveWay(); }
