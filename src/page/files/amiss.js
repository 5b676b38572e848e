// Is all well? What is not, since when, what goes on meanwhile, and what to do.
import { $, ask, button, complain, icon, lasting, listed, make, mayRun, notice, number, state, t, when } from "./common.js";

const LOST = (c) => ({ what: t("amiss.lost", { camera: c.camera, when: c.lost ? when(c.lost) : "" }), more: c.lost_why || "",
  steps: [t("amiss.lost-power"), t("amiss.lost-source")], acts: mayRun() ? [[t("to-its-settings"), () => { location.hash = "#settings/camera/" + c.camera; }]] : [] });
const ENDED = (c) => ({ what: t("amiss.ended", { camera: c.camera }), more: "", steps: [], acts: [] });
const UNSTORED = (c) => ({ what: t("amiss.not-stored", { camera: c.camera, n: c.not_stored }), more: "", steps: [t("amiss.card-room")], acts: [] });
const STOPPED = (d) => ({ what: t("amiss.stopped", { name: d.destination, when: when(d.since) }), more: d.why, steps: d.waiting ? [t("amiss.stopped-waits", { n: d.waiting })] : [],
  acts: mayRun() ? [[t("try-again"), () => ask("/api/outbox", { retry: d.destination }).then(() => notice(t("tried-again", { name: d.destination }))).catch(complain)]] : [] });
const SENSOR = (s) => ({ what: s.why ? t("amiss.sensor-silent", { name: s.sensor }) : t("amiss.sensor", { name: s.sensor, value: number(s.value, Math.abs(s.value) < 10 ? 1 : 0) + "\u00a0" + s.unit }), more: s.why || "", steps: [], acts: [] });

const VISIT = (s) => ({ what: s.station + ": " + t("want." + s.wants), more: t("heard-last", { when: when(s.heard) }), steps: [], acts: [] });

// Many of a kind are told as one: some of their names, and where the others are.
const SOME = 4, NAMED = 3;
function visits(s, wants) {
  const own = s.amiss.filter((a) => a.wants === wants), n = s.stations.wants[wants];
  if (s.stations.amiss <= SOME || n === 1) return own.map(VISIT);
  const names = own.map((a) => a.station);
  return [{ what: t("want." + wants) + ": " + t("n-stations", { n }), steps: [], acts: [[t("view.stations"), () => { location.hash = "#stations"; }]],
    more: n > names.length ? t("names-and-more", { names: names.slice(0, NAMED).join(", "), n: n - NAMED }) : listed(names) }];
}

/** What is not well, by what the station says of itself; of many, which of them. */
export function amissOf(s) {
  const all = [];
  if (s.many) return Object.keys(s.stations.wants).flatMap((wants) => visits(s, wants));
  for (const c of s.cameras) {
    if (c.state === "lost") all.push(LOST(c));
    else if (c.state === "closed") all.push(ENDED(c));
    if (c.not_stored > 0) all.push(UNSTORED(c));
  }
  for (const d of s.stopped || []) all.push(STOPPED(d));
  for (const one of s.sensors || []) all.push(SENSOR(one));
  if (s.store && !s.store.card) all.push({ what: t("amiss.card"), more: "", steps: [t("amiss.card-there")], acts: [] });
  if (s.store && !s.store.catalogue) all.push({ what: t("amiss.catalogue"), more: "", steps: [], acts: [] });
  return all;
}

/** "Three cameras watch, everything was sent, and the card lasts 41 days." @param known  plan and outbox, as far as they are. */
export function wellWords(s, known) {
  if (s.many) return t("well.many", { n: s.stations.all, cameras: s.stations.cameras });
  const off = s.cameras.filter((c) => c.state === "disarmed").map((c) => c.camera), watching = s.cameras.length - off.length;
  const parts = [off.length === 0 ? t("well.watch", { n: watching }) : watching === 0 ? t("well.none-watch") : t("well.some-watch", { n: watching, off: listed(off) })];
  if (known.outbox && known.outbox.destinations.length > 0) {
    const waiting = known.outbox.destinations.reduce((n, d) => n + d.waiting, 0);
    parts.push(waiting > 0 ? t("well.waits", { n: waiting }) : t("well.sent"));
  }
  if (known.plan && known.plan.bytes_a_day > 0 && known.plan.days > 0) parts.push(t("well.card", { time: cardDays(known.plan.days) }));
  return t("well.all", { what: listed(parts) });
}

export const cardDays = (days) => days > 3650 ? t("ten-years") : days < 2 ? lasting(days * 86400e3) : t("days", { n: Math.floor(days) });

/** One of them, with the way to mend it. */
export function tellOne(p) {
  const box = make("div", { class: "say bad" }, icon("warn"), make("div", {}, make("p", {}, make("b", {}, p.what), p.more ? " " + p.more : "")));
  const body = box.lastChild;
  if (p.steps.length > 0) body.append(make(p.steps.length > 1 ? "ol" : "ul", { class: p.steps.length > 1 ? "steps" : "plain" }, ...p.steps.map((text) => make("li", {}, text))));
  if (p.acts.length > 0) body.append(make("div", { class: "bar" }, ...p.acts.map(([text, act]) => button(text, act))));
  return box;
}

/** The line at the head of each view. */
export function showWell(s) {
  const n = s.many ? s.stations.amiss : amissOf(s).length, chip = $("well"), words = n === 0 ? t("all-well") : t("n-things", { n });
  if (chip.dataset.words === words) return;
  chip.dataset.words = words;
  chip.hidden = false;
  chip.className = "st " + (n === 0 ? "well" : "bad");
  chip.href = n === 0 ? "#came" : s.many ? "#stations" : "#station";
  chip.replaceChildren(icon(n === 0 ? "well" : "warn"), make("span", {}, words));
}

/** All of it, or that all is well. Drawn anew only where something differs. */
export function tellAll(box, s, known) {
  const all = amissOf(s), lost = state.kept;
  const words = JSON.stringify([all, lost, all.length || lost ? "" : wellWords(s, known)]);
  if (box.dataset.words === words) return;
  box.dataset.words = words;
  const one = lost ? [{ what: t("no-answer"), more: t("said-last"), steps: [], acts: [[t("try-now"), () => location.reload()]] }] : all;
  box.replaceChildren(...(one.length > 0 ? one.map(tellOne) : [make("p", { class: "say" }, icon("well"), make("span", {}, wellWords(s, known)))]));
}
