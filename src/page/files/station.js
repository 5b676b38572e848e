// Station: what needs somebody, how its cameras and card are, what waits to be sent, what happened.
import { showPhones } from "./phones.js";
import { amissOf, cardDays, tellAll } from "./amiss.js";
import { $, ask, button, complain, icon, make, mayRun, menuButton, minute, notice, number, percent, shape, signed, size, state, t, table, when } from "./common.js";
import { disarmWays, stateReason, stateSign } from "./states.js";

const view = { known: {}, timer: 0 };

function order(what, extra) {
  return async () => {
    try { await ask("/api/order", Object.assign({ do: what }, extra)); notice(t("done-all")); }
    catch (e) { complain(e); }
  };
}

// ---- what needs somebody, and the cameras

function showTitle(status) {
  const n = amissOf(status).length, words = state.kept ? t("no-answer") : n === 0 ? t("nothing-needs") : t("n-need", { n });
  if ($("station-title").textContent !== words) $("station-title").textContent = words;
  tellAll($("amiss"), status, view.known);
}

const light = (c) => c.light === undefined ? "\u2013" : percent(c.light) + (c.dark === undefined ? "" : ", " + t(c.dark ? "is-dark" : "not-dark"));

function cameraRow(c, tile) {
  const gone = c.state === "lost" || c.state === "closed" || c.fps === undefined, none = "\u2013";
  const reason = [stateReason(c), c.holds ? t("settings-for", { at: c.holds }) : ""].filter(Boolean).join("; ");
  return [make("span", { class: "with-picture" }, tile, make("b", {}, c.camera)), [stateSign(c), make("div", { class: "small dim" }, reason)], gone ? none : number(c.fps, 1), gone ? none : percent(c.busy), gone ? none : light(c), gone ? none : t("n-levels", { n: number(c.noise, 1) }),
    String(c.sightings), size(c.stored_bytes)];
}

// Small pictures stay: they are not fetched each second.
const pictures = new Map();
function pictureOf(c) {
  const age = Math.floor(Date.now() / 15000), source = "/picture/" + encodeURIComponent(c.camera) + "?at=" + age;
  if (!pictures.has(c.camera)) {
    const image = make("img", { alt: "", width: 96, height: 54 });
    image.addEventListener("error", () => { image.style.visibility = "hidden"; });
    image.addEventListener("load", () => { image.style.visibility = ""; });
    pictures.set(c.camera, make("span", { class: "frame" }, image));
  }
  const frame = pictures.get(c.camera);
  if (frame.firstChild.getAttribute("src") !== source && !(c.state === "lost" && frame.firstChild.src)) frame.firstChild.src = source;
  return frame;
}

let drawn = "";
export function refresh(status) {
  showTitle(status);
  const words = JSON.stringify(status.cameras.map((c) => [c.camera, c.state, stateReason(c), c.holds, Math.round(c.fps * 10), Math.round(c.busy), Math.round(c.light), c.dark, Math.round(c.noise * 10), c.sightings, c.stored_bytes]));
  for (const c of status.cameras) pictureOf(c);
  if (words === drawn) return;
  drawn = words;
  $("busy").replaceChildren(table([t("camera"), t("state"), t("frames-second"), t("processor"), t("light"), t("noise"), t("view.sightings"), t("stored")], status.cameras.map((c) => cameraRow(c, pictureOf(c))), t("cameras-since"), [2, 3, 4, 5, 6, 7]));
}

// ---- the card

function cardBar(p) {
  const used = p.total_bytes - p.free_bytes, share = (bytes) => (1000 * Math.max(0, Math.min(1, bytes / Math.max(1, p.total_bytes)))).toFixed(1), soon = Math.min(p.free_bytes, p.bytes_a_day * Math.min(p.days > 0 ? p.days : 0, 3650));
  return make("div", { class: "card-bar" }, shape("svg", { viewBox: "0 0 1000 28", preserveAspectRatio: "none", role: "img", "aria-label": t("card-used", { used: size(used), total: size(p.total_bytes) }) },
    shape("defs", {}, shape("pattern", { id: "to-come", width: 8, height: 8, patternUnits: "userSpaceOnUse", patternTransform: "rotate(45)" }, shape("line", { x1: 0, y1: 0, x2: 0, y2: 8, class: "to-come" }))),
    shape("rect", { class: "used", x: 0, y: 0, width: share(used), height: 28 }), shape("rect", { x: share(used), y: 0, width: share(soon), height: 28, fill: "url(#to-come)" })),
  make("div", { class: "ends small dim" }, make("span", {}, t("card-used", { used: size(used), total: size(p.total_bytes) })), make("span", {}, t("card-free", { free: size(p.free_bytes) }))));
}

async function showPlan() {
  const p = await ask("/api/plan");
  view.known.plan = p;
  const days = p.bytes_a_day > 0 && p.days > 0, history = p.history_days < 1 ? t("history-short") : t("history", { n: Math.round(p.history_days) });
  const rows = p.cameras.map((c) => [c.camera, p.history_days >= 1 ? number(c.sightings / p.history_days, 1) : String(c.sightings), size(c.bytes_an_hour_of_sightings), size(c.bytes_a_day), [t("uplink-is", { mean: number(c.uplink_bits / 1e3, 1) }), make("div", { class: "small dim" }, t("uplink-peak", { peak: number(c.uplink_peak_bits / 1e3, 1) }))]]);
  $("plan").replaceChildren(make("div", { class: "two" }, make("div", {}, make("p", {}, days ? make("b", {}, cardDays(p.days)) : "", " ", days ? t("until-oldest-go") : t("no-forecast")), cardBar(p), make("p", { class: "small dim" }, (days ? t("a-day-of", { bytes: size(p.bytes_a_day) }) + " " : "") + history)),
    table([t("camera"), p.history_days >= 1 ? t("sightings-day") : t("view.sightings"), t("per-hour"), t("a-day"), t("uplink")], rows, t("settings-make"), [1, 2, 3, 4])));
}

// ---- sensors

const DAY = 86400e3, WIDTH = 600, HEIGHT = 90;
const round = (v) => String(Number(v.toPrecision(4)));

// Values over a day as a line, with the limits that are near enough to be seen.
function line(s, from, until) {
  const all = s.points.map((p) => p[1]);
  let low = Math.min(...all), high = Math.max(...all);
  const room = Math.max((high - low) * 0.15, Math.abs(high) * 0.01, 0.001), limits = [s.alarm_above, s.alarm_below].filter((l) => l !== undefined && l > low - 3 * (high - low + room) && l < high + 3 * (high - low + room));
  low = Math.min(low, ...limits) - room;
  high = Math.max(high, ...limits) + room;
  const x = (time) => (WIDTH * (time - from) / (until - from)).toFixed(1), y = (v) => (HEIGHT * (high - v) / (high - low)).toFixed(1);
  const between = t("between", { low: round(Math.min(...all)), high: round(Math.max(...all)), unit: s.unit });
  const svg = shape("svg", { viewBox: "0 0 " + WIDTH + " " + HEIGHT, preserveAspectRatio: "none", role: "img", "aria-label": t("last-day-of", { name: s.sensor }) + " " + between });
  for (const l of limits) svg.append(shape("line", { class: "limit", x1: 0, x2: WIDTH, y1: y(l), y2: y(l) }));
  svg.append(shape("polyline", { class: "value", points: s.points.map((p) => x(p[0]) + "," + y(p[1])).join(" ") }));
  return make("div", { class: "sensor-line" }, svg, make("div", { class: "small ends dim" }, make("span", {}, minute(from)), make("span", {}, between), make("span", {}, t("now"))));
}

function sensor(s, from, until) {
  const limits = [s.alarm_below === undefined ? "" : t("alarm-below", { value: round(s.alarm_below) }), s.alarm_above === undefined ? "" : t("alarm-above", { value: round(s.alarm_above) })].filter(Boolean).join(", ");
  return make("div", { class: "sensor" }, make("div", { class: "ends" }, make("b", {}, s.sensor), make("span", { class: s.beyond || s.why ? "wrong" : "" }, s.value === undefined ? t("no-number") : round(s.value) + " " + s.unit + (s.beyond ? ", " + t("beyond") : ""))),
    s.why ? make("p", { class: "small wrong" }, s.why) : "", s.points.length > 1 ? line(s, from, until) : make("p", { class: "small dim" }, s.why ? "" : t("line-comes")), limits ? make("p", { class: "small dim" }, limits) : "");
}

async function showSensors() {
  const until = Date.now(), from = until - DAY, a = await ask("/api/sensors?from=" + from + "&until=" + until);
  $("sensors").hidden = a.sensors.length === 0;
  $("sensors-list").replaceChildren(...a.sensors.map((s) => sensor(s, from, until)));
}

// ---- destinations

async function test(name, b) {
  b.disabled = true;
  const begun = Date.now();
  notice(t("test-goes", { name }));
  try { const a = await ask("/api/trial", { destination: name }); notice(name + ": " + (a.good ? t("test-arrived", { time: number((Date.now() - begun) / 1000, 1) }) : a.text), !a.good); }
  catch (e) { complain(e); }
  b.disabled = false;
}

async function change(what) {
  try { await ask("/api/outbox", what); await showOutbox(); }
  catch (e) { complain(e); }
}

function destination(d) {
  const sign = d.stopped ? ["warn", "bad", t("sending-stopped")] : d.waiting > 0 ? ["off", "off", t("n-wait", { n: d.waiting })] : ["well", "well", t("everything-sent")];
  const said = [t("n-sent-day", { n: d.sent_day }) + (d.last ? ", " + t("the-last-at", { when: when(d.last) }) : "")];
  if (d.oldest) said.push(t("oldest-of", { when: when(d.oldest) }));
  if (d.given_up) said.push(t("n-given-up", { n: d.given_up }));
  const b = signed("send", t("send-test"), () => test(d.destination, b)), bar = make("div", { class: "bar push" });
  if (mayRun() && (d.given_up || d.stopped)) bar.append(button(t("try-again"), () => change({ retry: d.destination })));
  if (mayRun()) bar.append(b);
  return make("li", { class: "destination" }, make("b", {}, d.destination), make("span", { class: "st " + sign[1] }, icon(sign[0]), make("span", {}, sign[2])), make("span", { class: "dim" }, said.join("; ") + "."), bar,
    d.why ? make("p", { class: "small wrong" }, (d.stopped ? "" : t("last-try") + " ") + d.why) : "");
}

const nameOf = (i) => i.file || i.text || t("record-of", { n: i.sighting });

async function showOutbox() {
  const a = await ask("/api/outbox");
  view.known.outbox = a;
  const items = a.items.map((i) => [nameOf(i), i.destination, t("item." + i.state.replace(" ", "-")), i.why || "",
    mayRun() ? button(t("drop"), () => change({ drop: i.id }), { class: "btn bare small", "aria-label": t("drop-of", { what: nameOf(i), name: i.destination }) }) : ""]);
  $("outbox").replaceChildren(a.destinations.length ? make("ul", { class: "plain" }, ...a.destinations.map(destination)) : make("p", {}, t("no-destination")),
    items.length ? table([t("capture"), t("destination"), t("state"), t("why"), ""], items, t("not-sent")) : "");
}

// ---- what happened

async function showHappenings() {
  const a = await ask("/api/log?from=" + (Date.now() - 7 * 86400e3));
  const rows = a.entries.reverse().slice(0, 100).map((h) => [when(h.time), h.camera || t("the-station"), h.what, h.text]);
  $("happened").replaceChildren(rows.length ? table([t("time"), t("subject"), t("event"), t("details")], rows, t("in-week")) : make("p", {}, t("nothing-in-week")));
}

export function begin() {
  $("all-arm").addEventListener("click", order("arm"));
  $("all-set").addEventListener("click", order("as-set"));
  $("all-disarm").replaceWith(menuButton("off", t("disarm-all"), disarmWays((how) => order("disarm", how)()), { id: "all-disarm" }));
}

export async function enter() {
  $("all").hidden = !mayRun();
  drawn = "";
  if (state.status) refresh(state.status);
  const parts = [[showPlan, "plan"], [showSensors, "sensors-list"], [showOutbox, "outbox"], [showHappenings, "happened"]];
  await Promise.all([...parts.map(([show, id]) => show().catch((e) => { $(id).replaceChildren(make("p", { class: "wrong" }, e.message)); })), showPhones()]);
  clearInterval(view.timer);
  view.timer = setInterval(() => { if (!document.hidden) Promise.all([showOutbox(), showSensors()]).catch(() => {}); }, 5000);
}
export function leave() { clearInterval(view.timer); }
