// Station: what it is busy with, what waits to be sent, how long the card lasts, what happened.
import { showPhones } from "./phones.js";
import { $, ask, button, complain, count, make, mayRun, notice, percent, shape, size, state } from "./common.js";

const when = (t) => new Date(t).toLocaleString([], { month: "short", day: "numeric", hour: "2-digit", minute: "2-digit", hour12: false });

function table(heads, rows, caption) {
  return make("div", { class: "wide", tabindex: 0, role: "region", "aria-label": caption }, make("table", {}, make("caption", {}, caption), make("thead", {}, make("tr", {}, ...heads.map((h) => make("th", { scope: "col" }, h || make("span", { class: "visually-hidden" }, "To do"))))),
    make("tbody", {}, ...rows.map((r) => make("tr", {}, ...r.map((c, i) => make(i === 0 ? "th" : "td", i === 0 ? { scope: "row" } : {}, c)))))));
}

function order(what, extra) {
  return async () => {
    try { await ask("/api/order", Object.assign({ do: what }, extra)); notice("Done, for all cameras."); }
    catch (e) { complain(e); }
  };
}

// ---- cameras

export function refresh(status) {
  const rows = status.cameras.map((c) => [c.camera, c.state + (c.holds ? " (settings for " + c.holds + ")" : ""), c.fps.toFixed(1), percent(c.busy) + " %", percent(c.light) + " %" + (c.dark === undefined ? "" : c.dark ? ", dark" : ", not dark"), c.noise.toFixed(1),
    String(c.sightings), count(c.stored, "capture") + ", " + size(c.stored_bytes)]);
  $("busy").replaceChildren(table(["Camera", "State", "Frames a second", "Of a processor", "Light", "Noise, levels", "Sightings", "Stored"], rows, "Cameras, since the station was started"));
  if (status.store)
    $("card-said").textContent = size(status.store.free_bytes) + " of " + size(status.store.total_bytes) + " free" + (status.store.waiting_bytes > 0 ? ", " + size(status.store.waiting_bytes) + " waiting to be written" : "") + ".";
}

// ---- forecasts

async function showPlan() {
  const p = await ask("/api/plan");
  const rows = p.cameras.map((c) => [c.camera, String(c.sightings), size(c.bytes_an_hour_of_sightings), size(c.bytes_a_day), (c.uplink_bits / 1e3).toFixed(1) + " kbit/s, " + (c.uplink_peak_bits / 1e3).toFixed(1) + " in the busiest hour"]);
  const days = p.bytes_a_day > 0 && p.days > 0 ? "At " + size(p.bytes_a_day) + " a day the card takes " + (p.days > 3650 ? "more than ten years" : p.days.toFixed(0) + " days") + " of captures before the oldest go. " : "";
  $("plan").replaceChildren(make("p", {}, days + "From " + (p.history_days < 1 ? "less than a day" : p.history_days.toFixed(0) + " days") + " of history."),
    table(["Camera", "Sightings", "An hour of them", "A day of all", "Uplink"], rows, "What the settings make"));
}

// ---- sensors

const DAY = 86400e3, WIDTH = 600, HEIGHT = 90;

// Values over a day as a line, with the limits that are near enough to be seen.
function line(s, from, until) {
  const all = s.points.map((p) => p[1]);
  let low = Math.min(...all), high = Math.max(...all);
  const room = Math.max((high - low) * 0.15, Math.abs(high) * 0.01, 0.001), limits = [s.alarm_above, s.alarm_below].filter((l) => l !== undefined && l > low - 3 * (high - low + room) && l < high + 3 * (high - low + room));
  low = Math.min(low, ...limits) - room;
  high = Math.max(high, ...limits) + room;
  const x = (t) => (WIDTH * (t - from) / (until - from)).toFixed(1), y = (v) => (HEIGHT * (high - v) / (high - low)).toFixed(1);
  const svg = shape("svg", { viewBox: "0 0 " + WIDTH + " " + HEIGHT, preserveAspectRatio: "none", role: "img", "aria-label": s.sensor + " over the last day: from " + Math.min(...all) + " to " + Math.max(...all) + " " + s.unit });
  for (const l of limits) svg.append(shape("line", { class: "limit", x1: 0, x2: WIDTH, y1: y(l), y2: y(l) }));
  svg.append(shape("polyline", { class: "value", points: s.points.map((p) => x(p[0]) + "," + y(p[1])).join(" ") }));
  return make("div", { class: "sensor-line" }, svg, make("div", { class: "small ends" }, make("span", {}, "a day ago"), make("span", {}, "between " + round(Math.min(...all)) + " and " + round(Math.max(...all)) + " " + s.unit), make("span", {}, "now")));
}

const round = (v) => String(Number(v.toPrecision(4)));

function sensor(s, from, until) {
  const limits = [s.alarm_below === undefined ? "" : "alarm below " + round(s.alarm_below), s.alarm_above === undefined ? "" : "alarm above " + round(s.alarm_above)].filter(Boolean).join(", ");
  return make("div", { class: "sensor" }, make("div", { class: "ends" }, make("strong", {}, s.sensor), make("span", { class: s.beyond || s.why ? "wrong" : "" }, s.value === undefined ? "no number" : round(s.value) + " " + s.unit + (s.beyond ? ", beyond its limits" : ""))),
    s.why ? make("p", { class: "small wrong m-0" }, s.why) : "", s.points.length > 1 ? line(s, from, until) : make("p", { class: "small m-0" }, s.why ? "" : "A line comes with its second value."), limits ? make("p", { class: "small m-0" }, limits) : "");
}

async function showSensors() {
  const until = Date.now(), from = until - DAY, a = await ask("/api/sensors?from=" + from + "&until=" + until);
  $("sensors").hidden = a.sensors.length === 0;
  $("sensors-list").replaceChildren(...a.sensors.map((s) => sensor(s, from, until)));
}

// ---- destinations

async function test(name, b) {
  b.disabled = true;
  notice("A test is sent to " + name + "\u2026");
  try { const a = await ask("/api/trial", { destination: name }); notice(name + ": " + a.text, !a.good); }
  catch (e) { complain(e); }
  b.disabled = false;
}

async function change(what) {
  try { await ask("/api/outbox", what); await showOutbox(); }
  catch (e) { complain(e); }
}

function destination(d) {
  const said = [d.waiting + " waiting" + (d.oldest ? ", the oldest of " + when(d.oldest) : "")];
  if (d.given_up) said.push(d.given_up + " given up");
  said.push(d.sent_day + " sent in a day" + (d.last ? ", the last at " + when(d.last) : ""));
  const bar = make("div", { class: "bar" });
  if (mayRun()) {
    const b = button("Send a test", () => test(d.destination, b));
    bar.append(b);
    if (d.given_up || d.stopped) bar.append(button("Try again", () => change({ retry: d.destination })));
  }
  return make("li", {}, make("strong", {}, d.destination), " ", said.join("; "), d.why ? make("p", { class: "small wrong" }, (d.stopped ? "Stopped: " : "Last try: ") + d.why) : "", bar);
}

const named = (i) => i.file || i.text || "record of sighting " + i.sighting;

async function showOutbox() {
  const a = await ask("/api/outbox");
  const items = a.items.map((i) => [named(i), i.destination, i.state, i.why || "",
    mayRun() ? button("Drop", () => change({ drop: i.id }), { "aria-label": "Drop " + named(i) + " for " + i.destination }) : ""]);
  $("outbox").replaceChildren(a.destinations.length ? make("ul", { class: "plain" }, ...a.destinations.map(destination)) :
    make("p", {}, "Nothing goes anywhere: a [destination NAME] in the settings, and a camera's send_to, would send captures."),
    items.length ? table(["What", "To", "State", "Why", ""], items, "What has not been sent") : "");
}

// ---- what happened

async function showHappenings() {
  const a = await ask("/api/log?from=" + (Date.now() - 7 * 86400e3));
  const rows = a.entries.reverse().slice(0, 100).map((h) => [when(h.time), h.camera || "station", h.what, h.text]);
  $("happened").replaceChildren(rows.length ? table(["When", "To", "What", "Said"], rows, "In the last week, the newest first") : make("p", {}, "Nothing in the last week."));
}

export function begin() {
  $("all-arm").addEventListener("click", order("arm"));
  $("all-set").addEventListener("click", order("as-set"));
  $("all-disarm").addEventListener("click", () => order("disarm", { for_s: 3600 * Number($("all-hours").value) })());
}
let timer = 0;
export async function enter() {
  $("all").hidden = !mayRun();
  refresh({ cameras: state.cameras });
  const all = () => Promise.all([showPlan(), showSensors(), showOutbox(), showPhones(), showHappenings()]).catch(complain);
  await all();
  timer = setInterval(() => { if (!document.hidden) Promise.all([showOutbox(), showSensors()]).catch(() => {}); }, 5000);
}
export function leave() { clearInterval(timer); }
