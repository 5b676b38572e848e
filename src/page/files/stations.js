// Stations: those first that need somebody, where they stand, and orders to those that are chosen.
import { $, agree, ask, button, complain, make, mayRun, menuButton, notice, number, shape, signed, size, state, t, table, when } from "./common.js";
import { disarmWays } from "./states.js";

const FIRST_ROWS = 100, MORE_ROWS = 500;
const view = { all: [], of: 0, rows: FIRST_ROWS, drawn: "", timer: 0 };
const BAD = new Set(["silent", "dead", "card", "room", "camera", "stopped", "sensor"]);

// ---- orders

const toldWords = (a) => [a.told > 0 ? t("told-n", { n: a.told }) : "", a.waits > 0 ? t("waits-n", { n: a.waits }) : "", a.away > a.waits ? t("away-n", { n: a.away - a.waits }) : ""].filter(Boolean).join(" ");

async function order(what, extra = {}) {
  const n = view.of;
  if (!await agree(t("order-ask", { n }), make("p", {}, t("order-own")), t("order-send", { n }))) return;
  try { const a = await ask("/api/order", Object.assign({ do: what }, extra)); notice(toldWords(a)); }
  catch (e) { complain(e); }
}

function orders() {
  if (!mayRun()) return [];
  return [signed("armed", t("arm-all"), () => order("arm")),
    menuButton("off", t("disarm-all"), disarmWays((how) => order("disarm", how))),
    button(t("by-settings"), () => order("as-set")), signed("still", t("take-still"), () => order("snap"))];
}

// ---- the table

const wantSign = (s) => make("span", { class: "st " + (BAD.has(s.wants) ? "bad" : s.wants === "down" ? "off" : "well") },
  make("span", {}, t("want." + s.wants)));

const valueOf = (v) => make("span", { class: v.beyond ? "wrong" : "" }, (v.sensor || "") + "\u00a0" + (typeof v.value === "number" ? number(v.value, Math.abs(v.value) < 10 ? 1 : 0) + "\u00a0" + (v.unit || "") : "\u2013"));
const between = (all, what) => all.flatMap((e, i) => i === 0 ? [e] : [what, e]);

function rowOf(s) {
  const name = make("a", { href: "#came", "data-station": s.station }, s.station);
  name.addEventListener("click", () => { state.choose("station:" + s.station); });
  return [[name, s.groups.length > 0 ? make("div", { class: "small dim" }, s.groups.join(", ")) : ""], wantSign(s), when(s.heard), t("n-of-watch", { n: s.watching, all: s.cameras }),
    s.free_bytes === undefined ? "\u2013" : size(s.free_bytes), s.sensors.length > 0 ? between(s.sensors.map(valueOf), ", ") : "\u2013", [s.version || "\u2013", make("div", { class: "small dim" }, s.settings ? make("code", {}, s.settings.slice(0, 8)) : "", " ", s.waiting > 0 ? t("n-waiting", { n: s.waiting }) : "")]];
}

function showTable() {
  const some = view.all.slice(0, view.rows), rest = Math.min(MORE_ROWS, view.all.length - some.length);
  const parts = [table([t("view.station"), t("state"), t("last-word"), t("cameras"), t("free"), t("sensors"), t("version-settings")], some.map(rowOf), t("view.stations"), [4])];
  if (rest > 0) parts.push(make("div", { class: "bar" }, button(t("n-more-rows", { n: rest }), () => { view.rows += rest; showTable(); })));
  if (view.of > view.all.length) parts.push(make("p", { class: "small dim" }, t("first-n", { n: view.all.length, all: view.of })));
  $("stations-table").replaceChildren(...parts);
}

// ---- the map: drawn from coordinates alone, north is up

const WIDTH = 1000, HEIGHT = 420, EDGE = 46, NAMED = 40, DENSE = 200;
const RAD = Math.PI / 180, M_PER_DEG = 111320;

// A degree of longitude is shorter than one of latitude by the cosine of that.
function scaleOf(placed) {
  const lat = placed.map((s) => s.latitude), lon = placed.map((s) => s.longitude);
  const mid = [(Math.min(...lat) + Math.max(...lat)) / 2, (Math.min(...lon) + Math.max(...lon)) / 2], squeeze = Math.max(0.05, Math.cos(mid[0] * RAD));
  const high = Math.max(Math.max(...lat) - Math.min(...lat), 0.002), wide = Math.max((Math.max(...lon) - Math.min(...lon)) * squeeze, 0.002);
  const perDegree = Math.min((WIDTH - 2 * EDGE) / wide, (HEIGHT - 2 * EDGE) / high);
  return { perDegree, x: (s) => WIDTH / 2 + (s.longitude - mid[1]) * squeeze * perDegree, y: (s) => HEIGHT / 2 - (s.latitude - mid[0]) * perDegree };
}

function scaleBar(scale) {
  const m = M_PER_DEG * 160 / scale.perDegree, step = 10 ** Math.floor(Math.log10(m)), length = [5, 2, 1].map((n) => n * step).find((n) => n <= m), px = length / M_PER_DEG * scale.perDegree;
  return shape("g", { class: "scale" }, shape("path", { d: "M20 " + (HEIGHT - 26) + "v8h" + px.toFixed(1) + "v-8" }),
    Object.assign(shape("text", { x: 24, y: HEIGHT - 24 }), { textContent: length >= 1000 ? number(length / 1000) + " km" : number(length) + " m" }));
}

// Of very many, none can be reached by keys: the table has them all.
function spot(s, scale, count) {
  const words = s.station + ", " + t("want." + s.wants), reached = count > DENSE ? {} : { tabindex: 0, role: "link", "aria-label": words };
  const g = shape("g", { class: "spot " + (BAD.has(s.wants) ? "bad" : s.wants), transform: "translate(" + scale.x(s).toFixed(1) + " " + scale.y(s).toFixed(1) + ")", ...reached },
    shape("circle", { r: 7 }), Object.assign(shape("title", {}), { textContent: words }));
  if (count <= NAMED) g.append(Object.assign(shape("text", scale.x(s) > WIDTH - 160 ? { x: -12, y: 5, "text-anchor": "end" } : { x: 12, y: 5 }), { textContent: s.station }));
  const go = () => { state.choose("station:" + s.station); location.hash = "#came"; };
  g.addEventListener("click", go);
  g.addEventListener("keydown", (event) => { if (event.key === "Enter") go(); });
  return g;
}

function showMap() {
  const placed = view.all.filter((s) => s.latitude !== undefined);
  $("stations-where").hidden = placed.length === 0;
  if (placed.length === 0) return;
  const scale = scaleOf(placed), last = [...placed].reverse();  // what needs somebody is drawn over the others
  $("stations-map").replaceChildren(shape("svg", { class: "map" + (placed.length > DENSE ? " dense" : ""), viewBox: "0 0 " + WIDTH + " " + HEIGHT, role: "group", "aria-label": t("where-they-stand") },
    shape("path", { class: "north", d: "M" + (WIDTH - 24) + " 44V16m-6 9l6-9 6 9" }), Object.assign(shape("text", { x: WIDTH - 24, y: 60, "text-anchor": "middle", class: "north" }), { textContent: t("north") }),
    scaleBar(scale), ...last.map((s) => spot(s, scale, placed.length))));
}

// ---- the view

async function show() {
  const a = await ask("/api/stations"), words = JSON.stringify(a);
  if (words === view.drawn) return;
  view.drawn = words;
  view.all = a.stations;
  view.of = a.all;
  $("stations-title").textContent = a.amiss === 0 ? t("stations-well", { n: a.all }) : t("stations-amiss", { n: a.amiss, all: a.all });
  $("stations-orders").hidden = a.all === 0;
  showTable();
  showMap();
}

export function begin() { $("stations-orders").replaceChildren(...orders()); }
export async function enter() {
  view.drawn = "";
  view.rows = FIRST_ROWS;
  await show();
  clearInterval(view.timer);
  view.timer = setInterval(() => { if (!document.hidden) show().catch(() => {}); }, 5000);
}
export const follow = enter;
export function leave() { clearInterval(view.timer); }
