// Ways to set a camera right, tried on what it did in the last days: what would be gone, what would stay.
import { ask, lasting, minute, percent, t } from "./common.js";

export const DAYS = 7;
const DAY = 86400e3, MOST = 1000, TIMES = 10;

const time = (s) => new Date(s.start).getTime();
const endOf = (s) => s.end ? new Date(s.end).getTime() : time(s) + 1000;

// Which of them one of the tried spans has.
function sort(sightings, spans) {
  const stay = sightings.filter((s) => spans.some(([from, until]) => from <= endOf(s) && until >= time(s))), kept = new Set(stay.map((s) => s.number));
  return { stay, gone: sightings.filter((s) => !kept.has(s.number)) };
}

async function tryOut(camera, span, changes) {
  return (await ask("/api/try", { camera, from: span.from, until: span.until, changes })).trace;
}

const one = (camera, key, value) => ({ head: "camera", name: camera, key, value });
const rounded = (x) => Number(x.toPrecision(2));

// ---- other limits

// Between the largest that was nothing and the next right one above it, if that is known; else some steps.
function higherLimits(now, sightings) {
  const nothing = sightings.filter((s) => s.mark === "nothing").map((s) => s.peak), right = sightings.filter((s) => s.mark === "right").map((s) => s.peak), all = [];
  if (nothing.length > 0) {
    const most = Math.max(...nothing), above = right.filter((p) => p > most);
    all.push(rounded(above.length > 0 ? Math.sqrt(most * Math.min(...above)) : most * 1.2));
  }
  if (right.length > 0) all.push(rounded(Math.min(...right) * 0.9));
  return [...new Set([...all, rounded(now.start * 1.5), rounded(now.start * 2.5)])].filter((x) => x > now.start * 1.05 && x <= 100).sort((a, b) => a - b);
}

const limitChanges = (camera, now, start) => {
  const stay = Math.min(start, rounded(now.stay * start / now.start));
  return [one(camera, "start_at", plainPercent(start)), one(camera, "stay_at", plainPercent(Math.max(0.0001, stay)))];
};
const plainPercent = (x) => String(rounded(x)) + " %";

const lostOf = (way) => way.gone.filter((s) => s.mark === "right").length;
const wonOf = (way) => way.gone.filter((s) => s.mark === "nothing").length;

// The best of some: loses nothing that was right, then most that was nothing, then most of all.
function best(all) {
  return all.filter((w) => w.gone.length > 0).sort((a, b) => lostOf(a) - lostOf(b) || wonOf(b) - wonOf(a) || b.gone.length - a.gone.length)[0];
}

async function byLimit(camera, span, now, sightings) {
  const all = [];
  for (const start of higherLimits(now, sightings).slice(0, 4)) {
    const changes = limitChanges(camera, now, start), tried = await tryOut(camera, span, changes), sorted = sort(sightings, tried.changed.spans);
    all.push({ title: t("way.limit", { before: percent(now.start), after: percent(start) }), headline: t("n-fewer", { n: sorted.gone.length }), ...sorted, changes: () => changes });
  }
  return best(all);
}

// ---- other hours

const minuteOf = (s) => { const d = new Date(s.start); return d.getHours() * 60 + d.getMinutes(); };
const within = (m, from, until) => from <= until ? m >= from && m < until : m >= from || m < until;
const word = (m) => String(Math.floor(m / 60) % 24).padStart(2, "0") + ":" + String(m % 60).padStart(2, "0");

// A time of day in which most was nothing and nothing was right, in whole ten minutes.
function byHours(camera, settings, sightings) {
  if (settings.hours !== "always") return null;
  const nothing = sightings.filter((s) => s.mark === "nothing").map(minuteOf), right = sightings.filter((s) => s.mark === "right").map(minuteOf);
  if (nothing.length < 3 || right.length === 0) return null;
  let found = null;
  for (const a of nothing) for (const b of nothing) {
    const from = a - a % TIMES, until = (b - b % TIMES + TIMES) % 1440, length = (until - from + 1440) % 1440;
    if (length === 0 || length > 720 || right.some((m) => within(m, from, until))) continue;
    const n = nothing.filter((m) => within(m, from, until)).length;
    if (!found || n > found.n || (n === found.n && length < found.length)) found = { from, until, n, length };
  }
  if (!found || found.n < 3) return null;
  const gone = sightings.filter((s) => within(minuteOf(s), found.from, found.until)), kept = new Set(gone.map((s) => s.number));
  return { title: t("way.hours", { from: minute(at(found.from)), until: minute(at(found.until)) }), headline: t("n-fewer", { n: gone.length }), gone, stay: sightings.filter((s) => !kept.has(s.number)),
    changes: () => [one(camera, "hours", word(found.until) + "-" + word(found.from))] };
}
const at = (m) => new Date(2000, 0, 1, Math.floor(m / 60), m % 60).getTime();

// ---- a rest between two

const RESTS = [["1 min", 60e3], ["5 min", 300e3], ["15 min", 900e3]];

async function byRest(camera, span, settings, sightings) {
  const all = [];
  for (const [value, ms] of RESTS) {
    if (value === settings.rest) continue;
    const changes = [one(camera, "rest", value)], tried = await tryOut(camera, span, changes), sorted = sort(sightings, tried.changed.spans);
    all.push({ title: t("way.rest", { time: lasting(ms) }), headline: t("n-fewer", { n: sorted.gone.length }), ...sorted, changes: () => changes });
  }
  return all.filter((w) => w.gone.length > 0 && lostOf(w) === 0).sort((a, b) => b.gone.length - a.gone.length)[0] || best(all);
}

// ---- more of them

async function lower(camera, span, now, sightings, factor) {
  const changes = limitChanges(camera, now, rounded(now.start * factor)), tried = await tryOut(camera, span, changes), more = tried.changed.sightings - tried.now.sightings;
  return { title: t("way.limit", { before: percent(now.start), after: percent(rounded(now.start * factor)) }), headline: t("n-more", { n: Math.max(0, more) }), more: true, before: tried.now.sightings, gone: [], stay: sightings, changes: () => changes };
}

function keener(camera, settings) {
  const n = Number(settings.sensitivity);
  if (!(n >= 1 && n < 5)) return null;
  return { title: t("way.keener", { before: n, after: n + 1 }), headline: t("untried"), untried: true, gone: [], stay: [], changes: () => [one(camera, "sensitivity", String(n + 1))] };
}
function calmer(camera, settings) {
  const n = Number(settings.sensitivity);
  if (!(n > 1 && n <= 5)) return null;
  return { title: t("way.keener", { before: n, after: n - 1 }), headline: t("untried"), untried: true, gone: [], stay: [], changes: () => [one(camera, "sensitivity", String(n - 1))] };
}

/** @param fewer  It begins too often; else it misses things.
 * @return all: ways, the best first; sightings: how many they were tried on. */
export async function find(camera, fewer) {
  const until = Date.now(), span = { from: until - DAYS * DAY, until };
  const [rows, found, status] = await Promise.all([ask("/api/settings?head=camera&name=" + encodeURIComponent(camera)), ask("/api/sightings?most=" + MOST + "&camera=" + encodeURIComponent(camera) + "&from=" + span.from), ask("/api/status")]);
  const settings = Object.fromEntries(rows.rows.map((r) => [r.key, r.value])), c = status.cameras.find((x) => x.camera === camera);
  const sightings = found.sightings, now = { start: c.start_at, stay: c.stay_at };
  const all = fewer ? [await byLimit(camera, span, now, sightings), byHours(camera, settings, sightings), await byRest(camera, span, settings, sightings), calmer(camera, settings)] :
    [await lower(camera, span, now, sightings, 0.6), await lower(camera, span, now, sightings, 0.3), keener(camera, settings)];
  // One that takes more that was right than it takes that was nothing is none.
  const sure = all.filter((w) => w && (w.more || w.untried || (w.gone.length > 0 && (lostOf(w) === 0 || lostOf(w) < wonOf(w)))));
  if (fewer) sure.sort((a, b) => (a.untried ? 1 : 0) - (b.untried ? 1 : 0) || lostOf(a) - lostOf(b) || wonOf(b) - wonOf(a) || b.gone.length - a.gone.length);
  return { all: sure, sightings: sightings.length };
}
