// What came: the last night, or all since this account looked last; and whether all is well.
import { $, ask, bare, button, complain, dayWords, hour, idWords, lengthOf, linesOf, make, mayRun, minute, nameOf, named, percent, state, stillOf, t, when } from "./common.js";
import { tellAll } from "./amiss.js";
import { MOST, atHour, nightsPath, sightingsPath, spanOf, take } from "./early.js";

const HOUR = 3600e3, DAY = 24 * HOUR, PATIENCE = 150;
const view = { since: 0, from: 0, until: 0, night: [], nights: [], whole: true, all: [], drawn: "", known: {}, timer: 0, more: false, asked: 0, filling: 0 };

// ---- what is asked for

const askNights = async () => (await take(nightsPath()) || await ask(nightsPath()).catch(() => ({ nights: [] }))).nights;
const askSightings = async () => (await take(sightingsPath(view), true) || await ask(sightingsPath(view))).sightings;
const setSpan = (nights) => Object.assign(view, spanOf(nights, view.since));

function title(n) {
  const now = Date.now(), [, dawn] = view.night, came = (one, more, values) => t(view.more ? more : one, { n, ...values });
  if (!view.whole || now > dawn + 3 * HOUR) return n === 0 ? t("came.none-since", { when: when(view.from) }) : came("came.since", "came.since-more", { when: when(view.from) });
  if (now < dawn) return n === 0 ? t("came.none-tonight") : came("came.tonight", "came.tonight-more");
  return n === 0 ? t("came.none-night") : came("came.night", "came.night-more");
}

const isNew = (s) => view.since > 0 && new Date(s.start) > view.since;

// ---- the chart of the night

const place = (e, time) => { e.style.left = (100 * (time - view.from) / (view.until - view.from)).toFixed(2) + "%"; return e; };
const diameter = (peak) => Math.min(18, 6 + 6 * Math.sqrt(peak));

function sign(kind, d) {
  const e = make("i", { class: kind });
  e.style.setProperty("--d", d.toFixed(1) + "px");
  return e;
}
const kindOf = (s) => s.starred ? "starred" : s.mark === "nothing" ? "nothing" : isNew(s) ? "new" : "";

// For who sees: the plates below are what is gone to.
function dot(s) {
  const words = [minute(s.start), s.camera, named(s) || (s.mark === "nothing" ? t("mark.nothing") : t("no-name"))].join(", ");
  return place(make("span", { class: "dot", title: words }, sign(kindOf(s), diameter(s.peak))), new Date(s.start).getTime());
}

// A tap on a line leads to what is nearest to it.
function toNearest(event, all) {
  const r = event.currentTarget.getBoundingClientRect(), time = view.from + (event.clientX - r.left) / r.width * (view.until - view.from);
  const far = (s) => Math.abs(new Date(s.start) - time), nearest = all.reduce((a, b) => (far(b) < far(a) ? b : a), all[0]);
  const plate = nearest && $("came-seen").querySelector("[data-id=\"" + CSS.escape(nearest.number) + "\"]");
  if (plate) { plate.scrollIntoView({ block: "start" }); plate.querySelector("a").focus({ preventScroll: true }); }
}

function line(name, shown, of) {
  const own = shown.filter((s) => of(s.camera) === name), e = make("div", { class: "line" }, make("span", { class: "cam" }, name), ...own.map(dot));
  if (own.length > 0) e.addEventListener("click", (event) => toNearest(event, own));
  return e;
}

function ground() {
  const e = make("div", { class: "ground" });
  for (const [dusk, dawn] of view.nights) {
    if (dawn < view.from || dusk > view.until) continue;
    const night = place(make("div", { class: "night" }), Math.max(dusk, view.from));
    night.style.width = (100 * (Math.min(dawn, view.until) - Math.max(dusk, view.from)) / (view.until - view.from)).toFixed(2) + "%";
    e.append(night);
  }
  return e;
}

function twilights() {
  const lines = [];
  if (view.until - view.from > 30 * HOUR) return lines;
  for (const [dusk, dawn] of view.nights)
    for (const [time, key] of [[dusk, "dusk"], [dawn, "dawn"]])
      if (time > view.from && time < view.until) lines.push(place(make("div", { class: "twi" + (time - view.from > 0.8 * (view.until - view.from) ? " left" : "") }, make("span", {}, t(key, { time: minute(time) }))), time));
  return lines;
}

function ticks() {
  const hours = (view.until - view.from) / HOUR, step = hours > 72 ? 24 : hours > 30 ? 6 : 1, all = [];
  for (let time = view.from, i = 0; time <= view.until; time += HOUR, i++) {
    const at = new Date(time).getHours();
    if (step > 1 && at % step !== 0) continue;
    const first = time === view.from, last = time + HOUR > view.until;
    all.push(place(make("span", { class: "tick" + (first ? " first" : last ? " last" : "") + (step === 1 && i % 3 ? " odd" : "") }, step === 24 ? when(time).split(",")[0] : hour(time)), time));
  }
  return all;
}

const key = (kind, d, text) => make("span", {}, sign(kind, d), text);

function sky(shown) {
  const { names, of } = linesOf(shown.map((s) => s.camera));
  const chart = make("div", { class: "sky", role: "img", "aria-label": t("night-chart") + ": " + names.map((n) => n + " " + shown.filter((s) => of(s.camera) === n).length).join(", ") }, ground(), ...twilights(), ...names.map((n) => line(n, shown, of)), make("div", { class: "ticks", "aria-hidden": "true" }, ...ticks()));
  // Where nothing came there is nothing to explain, but the room for it: what is below does not move.
  const legend = make("p", { class: "legend" + (shown.length > 0 ? "" : " unseen"), "aria-hidden": "true" }, key("", diameter(0.5), t("peak-of", { peak: percent(0.5) })), key("", diameter(3), t("peak-of", { peak: percent(3) })),
    ...(view.since > 0 ? [key("new", 10, t("new-to-you"))] : []), key("starred", 10, t("starred")), key("nothing", 10, t("mark.nothing")));
  return [chart, legend];
}

// ---- plates

async function star(s, b) {
  try {
    await ask("/api/sightings/" + idWords(s.number), { star: !s.starred });
    s.starred = !s.starred;
    b.setAttribute("aria-pressed", String(s.starred));
    b.querySelector("use").setAttribute("href", "#i-" + (s.starred ? "staron" : "star"));
    $("came-sky").replaceChildren(...sky(view.all));
  } catch (e) { complain(e); }
}

function plate(s, head) {
  const b = mayRun() ? bare(s.starred ? "staron" : "star", t("star-at", { time: minute(s.start) }), () => star(s, b), { "aria-pressed": String(s.starred) }) : "";
  const camera = state.cameras.find((c) => c.camera === s.camera), frame = make("a", { class: "frame", href: "#sightings/" + idWords(s.number), "aria-label": minute(s.start) + ", " + s.camera }, stillOf(s, 480));
  if (camera && camera.width) frame.style.aspectRatio = camera.width + " / " + camera.height;
  return make("figure", { class: "plate" + (s.mark === "nothing" ? " nothing" : ""), "data-id": s.number }, make("span", { class: "hr" }, ...head), frame,
    make("figcaption", {}, make("span", { class: "t" }, minute(s.start)), make("span", {}, nameOf(s), isNew(s) ? make("span", { class: "new" }, " " + t("new")) : ""),
      make("span", { class: "d" }, s.camera + " \u00b7 " + lengthOf(s)), b));
}

// An hour stands above its first; how long it was quiet before, beside it.
function headOf(s, before) {
  const at = atHour(new Date(s.start).getTime(), false), last = before && atHour(new Date(before.start).getTime(), false);
  if (at === last) return [];
  const quiet = before ? Math.round((at - last) / HOUR) - 1 : 0, head = [make("b", {}, view.until - view.from > DAY ? when(at) : minute(at))];
  if (quiet > 0) head.push(make("span", {}, t("after-quiet", { n: quiet })));
  return head;
}

// Plates are dear: those in sight at once, the others in steps that nobody feels.
const FIRST = 6, STEP = 8;
function fill(all) {
  const turn = ++view.filling;
  let filled = 0;
  const fillTo = (end) => {
    for (; filled < Math.min(end, all.length); filled++) {
      const [grid, s, before] = all[filled];
      grid.append(plate(s, headOf(s, before)));
    }
    if (filled < all.length) setTimeout(() => { if (turn === view.filling) fillTo(filled + STEP); });
  };
  fillTo(FIRST);
}

function blank() {
  const ways = state.me.many ? [make("a", { class: "btn", href: "#stations" }, t("view.stations"))] : [...(mayRun() ? [make("a", { class: "btn act", href: "#right/limits" }, t("see-levels"))] : []), make("a", { class: "btn", href: "#live" }, t("watch-live"))];
  return make("div", { class: "blank" }, make("p", {}, t("came.quiet")), make("div", { class: "bar" }, ...ways));
}

function showSeen(shown) {
  const old = shown.filter((s) => !isNew(s)), fresh = shown.filter(isNew), parts = [], all = [];
  const grid = (some) => {
    const g = make("div", { class: "plates" });
    for (const [i, s] of some.entries()) all.push([g, s, some[i - 1]]);
    parts.push(g);
  };
  if (shown.length === 0) parts.push(blank());
  if (view.more) parts.push(make("p", { class: "quiet" }, t("came.more", { n: MOST })));
  if (old.length > 0) grid(old);
  if (fresh.length > 0 && old.length > 0) parts.push(make("p", { class: "quiet seen", id: "came-since" }, t("since-you-looked", { when: when(view.since) })));
  if (fresh.length > 0) grid(fresh);
  $("came-seen").replaceChildren(...parts);
  fill(all);
}

// ---- the view

function tellSpan() {
  const a = dayWords(view.from), b = dayWords(Math.min(view.until, Date.now()));
  $("came-when").textContent = a === b ? a : t("from-to", { from: a, until: b });
}

// What comes at once needs none. As much room as what comes will take: nothing moves once it is there.
function placeholders() {
  $("view-came").classList.remove("unseen");
  if (view.from === 0) setSpan([]);
  tellSpan();
  $("came-title").textContent = title(10);
  $("came-title").classList.add("unseen");
  $("came-sky").replaceChildren(...sky([]));
  const rows = Array.from({ length: 6 }, () => make("figure", { class: "plate" }, make("span", { class: "hr" }), make("span", { class: "frame ph" }), make("figcaption", {}, "\u00a0")));
  $("came-seen").replaceChildren(make("div", { class: "plates", "aria-hidden": "true" }, ...rows));
}

function draw() {
  const real = view.all.filter((s) => s.mark !== "nothing"), fresh = real.filter(isNew).length, nothing = view.all.length - real.length;
  const words = JSON.stringify([view.from, view.until, view.since, view.all.map((s) => [s.number, s.end, s.starred, s.mark, s.name, s.count, s.stills])]);
  $("view-came").classList.remove("unseen");
  $("came-title").textContent = title(real.length);
  $("came-title").classList.remove("unseen");
  if (words === view.drawn) return;
  view.drawn = words;
  tellSpan();
  $("came-new").hidden = fresh === 0 || fresh === real.length;
  $("came-new").textContent = t("are-new", { n: fresh });
  $("came-nothing").textContent = nothing > 0 ? t("marked-nothing", { n: nothing }) : "";
  $("came-sky").replaceChildren(...sky(view.all));
  showSeen(view.all);
}

/** @param visit  When this account looked last, if that is only on its way. */
async function load(visit) {
  const asked = ++view.asked;
  setSpan(await askNights());
  let found = askSightings();
  found.catch(() => {});  // told below, if it is still of use then
  if (visit) {
    const from = view.from;
    view.since = await visit;
    setSpan(view.nights);
    if (view.from !== from) found = askSightings();
  }
  found = await found;
  if (asked !== view.asked) return;
  view.more = found.length === MOST;
  view.all = found;
  draw();
}

function fail(e) {
  view.filling++;
  $("view-came").classList.remove("unseen");
  $("came-title").textContent = t("came.cannot");
  $("came-title").classList.remove("unseen");
  $("came-seen").replaceChildren(make("div", { class: "blank" }, make("p", { class: "wrong" }, e.message), make("div", { class: "bar" }, button(t("try-again"), () => load().catch(fail)))));
}

/** Beside the list: how long the card lasts, what waits. Not for who may see some cameras alone. */
async function know() {
  if (state.me.cameras || state.me.many) return;
  const [plan, outbox] = await Promise.all([ask("/api/plan").catch(() => null), ask("/api/outbox").catch(() => null)]);
  view.known = { plan, outbox };
  if (state.status) tellAll($("came-well"), state.status, view.known);
}

export function refresh(status) { tellAll($("came-well"), status, view.known); }

export function begin() {
  $("came-new").addEventListener("click", (event) => {
    event.preventDefault();
    const first = $("came-since") || $("came-seen").firstElementChild;
    if (first) first.scrollIntoView({ block: "start" });
  });
}

export async function enter() {
  if (state.status) refresh(state.status);
  const waits = setTimeout(() => { if (view.drawn === "") placeholders(); }, PATIENCE);
  await load(ask("/api/visit", {}).then((a) => a.since).catch(() => 0)).catch(fail);
  clearTimeout(waits);
  know().catch(() => {});  // how long the card lasts is dear to find: after what came
  clearInterval(view.timer);
  let turn = 0;
  view.timer = setInterval(() => {
    if (document.hidden) return;
    load().catch(() => {});
    if (++turn % 6 === 0) { know().catch(() => {}); ask("/api/visit", {}).catch(() => {}); }
  }, 10000);
}
export function leave() { clearInterval(view.timer); }
