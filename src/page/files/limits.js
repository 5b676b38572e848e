// Limits: activity that was, and what other limits would have made of it.
import { $, ask, along, colour, complain, lasting, make, minute, oneAtATime, percent, save, size, state, t, when } from "./common.js";

const SPANS = [["span.10min", 600], ["span.hour", 3600], ["span.6h", 21600], ["span.day", 86400], ["span.week", 604800]];
const view = { camera: "", chart: null, limits: { start: 0, stay: 0 }, set: { start: 0, stay: 0 }, dragged: null, timer: 0, spans: [], from: 0, until: 0 };

const camera = () => view.camera;
const levelOf = (y) => 100 * y * y;   // of the axis, which is a square root
const onAxis = (p) => along(p);

// ---- the chart

// Chart.js comes when it is first needed: it is the largest part of the page.
function load() {
  return window.Chart ? Promise.resolve() : new Promise((resolve, reject) => {
    document.head.append(make("script", { src: "/chart.js", onload: resolve, onerror: () => reject(new Error(t("no-chart"))) }));
  });
}

function limitLine(pen, area, y, text, dashed, below) {
  pen.save();
  pen.strokeStyle = pen.fillStyle = colour("ink");
  pen.lineWidth = 2;
  pen.setLineDash(dashed ? [6, 4] : []);
  pen.beginPath(); pen.moveTo(area.left, y); pen.lineTo(area.right, y); pen.stroke();
  pen.setLineDash([]);
  pen.fillStyle = colour("raised");
  pen.font = "13px " + getComputedStyle(document.body).fontFamily;
  const w = pen.measureText(text).width + 12, top = below ? y + 3 : y - 23;
  pen.fillRect(area.right - w - 8, top, w, 20);
  pen.strokeRect(area.right - w - 8, top, w, 20);
  pen.fillStyle = colour("ink");
  pen.fillText(text, area.right - w - 2, top + 15);
  pen.restore();
}

// What would have been kept, behind the activity.
const drawSpans = { id: "spans", beforeDatasetsDraw(chart) {
  const { left, right, top, bottom } = chart.chartArea, x = (t) => Math.max(left, Math.min(right, chart.scales.x.getPixelForValue(t)));
  chart.ctx.save();
  chart.ctx.fillStyle = chart.ctx.strokeStyle = colour("amber");
  for (const [from, until] of view.spans) {
    chart.ctx.globalAlpha = 0.3;
    chart.ctx.fillRect(x(from), top, Math.max(2, x(until) - x(from)), bottom - top);
    chart.ctx.globalAlpha = 1;
    chart.ctx.fillRect(x(from), top, Math.max(2, x(until) - x(from)), 5);
  }
  chart.ctx.restore();
} };

const drawLimits = { id: "limits", afterDatasetsDraw(chart) {
  const y = (p) => chart.scales.y.getPixelForValue(onAxis(p));
  limitLine(chart.ctx, chart.chartArea, y(view.limits.stay), t("goes-on-at", { share: percent(view.limits.stay) }), true, true);
  limitLine(chart.ctx, chart.chartArea, y(view.limits.start), t("begins-at", { share: percent(view.limits.start) }), false, false);
} };

// Full minutes, hours or days of the place, at most nine.
function fullTimes(from, until) {
  const MINUTE = 60e3, step = [1, 2, 5, 10, 15, 30, 60, 120, 180, 360, 720, 1440, 2880].map((m) => m * MINUTE).find((x) => (until - from) / x <= 9) || 2880 * MINUTE;
  const shift = new Date(from).getTimezoneOffset() * MINUTE, all = [];
  for (let time = Math.ceil((from - shift) / step) * step + shift; time <= until && all.length < 20; time += step) all.push(time);
  return all;
}

function makeChart() {
  const ticks = [0, 0.01, 0.05, 0.1, 0.5, 1, 2, 5, 10, 20, 50, 100];
  view.chart = new window.Chart($("chart"), {
    type: "line", plugins: [drawSpans, drawLimits],
    data: { datasets: [{ data: [], borderColor: colour("moss"), backgroundColor: colour("moss"), fill: true, borderWidth: 1, pointRadius: 0, stepped: true, spanGaps: false }] },
    options: { animation: false, maintainAspectRatio: false, parsing: false, normalized: true, events: [],
      plugins: { legend: { display: false }, tooltip: { enabled: false } },
      scales: { x: { type: "linear", afterBuildTicks: (a) => { a.ticks = fullTimes(a.min, a.max).map((value) => ({ value })); }, ticks: { color: colour("ink2"), maxRotation: 0, autoSkip: true, callback: (v) => (view.until - view.from > 2 * 86400e3 ? when(v).split(",")[0] : minute(v)) }, grid: { color: colour("hair") } },
        y: { min: 0, max: 1, afterBuildTicks: (a) => { a.ticks = ticks.filter((x) => onAxis(x) <= a.max).map((x) => ({ value: onAxis(x) })); },
          ticks: { color: colour("ink2"), autoSkip: true, callback: (v) => percent(levelOf(v)) }, grid: { color: colour("hair") } } } } });
}

function setTrace(trace) {
  const step = trace.step_s * 1000;
  const points = trace.ppm.map((p, i) => ({ x: trace.from + i * step, y: p < 0 ? NaN : onAxis(p / 1e4) }));
  const highest = Math.max(onAxis(view.limits.start), ...points.map((p) => p.y || 0));
  view.chart.data.datasets[0].data = points;
  Object.assign(view.chart.options.scales.x, { min: trace.from, max: trace.from + trace.ppm.length * step });
  view.chart.options.scales.y.max = Math.min(1, Math.max(0.1, highest * 1.15));
  view.chart.update("none");
}

// ---- dragging

function placeOf(event) {
  const r = $("chart").getBoundingClientRect();
  return view.chart.scales.y.getValueForPixel(event.clientY - r.top);
}

function nearest(event) {
  const y = event.clientY - $("chart").getBoundingClientRect().top;
  const far = (p) => Math.abs(view.chart.scales.y.getPixelForValue(onAxis(p)) - y);
  const start = far(view.limits.start), stay = far(view.limits.stay);
  return Math.min(start, stay) > 24 ? null : start <= stay ? "start" : "stay";
}

function setLimit(which, p) {
  const round = (x) => Number(x.toPrecision(2));
  const to = Math.max(0.001, Math.min(100, round(p)));
  view.limits[which] = to;
  if (which === "start") view.limits.stay = Math.min(view.limits.stay, to);
  else view.limits.start = Math.max(view.limits.start, to);
  showLimits();
  tryLimits();
}

function showLimits() {
  $("limits-start").value = view.limits.start;
  $("limits-stay").value = view.limits.stay;
  const differs = view.limits.start !== view.set.start || view.limits.stay !== view.set.stay;
  $("limits-use").disabled = !differs;
  if (view.chart) view.chart.update("none");
}

function listen() {
  const chart = $("chart");
  chart.addEventListener("pointerdown", (event) => {
    view.dragged = view.chart ? nearest(event) : null;
    if (!view.dragged) return;
    chart.setPointerCapture(event.pointerId);
    event.preventDefault();
  });
  chart.addEventListener("pointermove", (event) => {
    if (!view.chart) return;
    if (view.dragged) setLimit(view.dragged, levelOf(Math.max(0, placeOf(event))));
    else chart.classList.toggle("grab", nearest(event) !== null);
  });
  for (const end of ["pointerup", "pointercancel"]) chart.addEventListener(end, () => { view.dragged = null; });
  for (const which of ["start", "stay"])
    $("limits-" + which).addEventListener("change", (event) => setLimit(which, Number(event.target.value)));
}

// ---- what they would have made

const changes = () => [["start_at", view.limits.start], ["stay_at", view.limits.stay]].map(([key, p]) => ({ head: "camera", name: camera(), key, value: p + " %" }));

const words = (one) => [t("n-sightings", { n: one.sightings }), lasting(one.seconds * 1000), ...one.bytes !== undefined ? [size(one.bytes)] : []].join(", ");

const tryLimits = oneAtATime(async () => {
  try {
    const a = await ask("/api/try", { camera: camera(), from: view.from, until: view.until, changes: changes() });
    view.spans = a.trace.changed.spans;
    if (view.chart) view.chart.update("none");
    $("limits-made").textContent = words(a.trace.changed);
    $("limits-now").textContent = t("with-set", { start: percent(view.set.start), stay: percent(view.set.stay), what: words(a.trace.now) });
  } catch (e) { $("limits-made").textContent = e.message; $("limits-now").textContent = ""; }
});

// ---- the view

function span() {
  const seconds = Number($("limits-span").value), day = $("limits-day").value;
  view.until = day ? new Date(day).getTime() + seconds * 1000 : Date.now();
  view.from = view.until - seconds * 1000;
}

async function show() {
  if (!camera()) return;
  span();
  try {
    await load();
    if (!view.chart) makeChart();
    const trace = await ask("/api/traces/" + encodeURIComponent(camera()) + "?from=" + view.from + "&until=" + view.until + "&points=" + ($("chart").clientWidth > 600 ? 1200 : 500));
    if (!view.dragged) setTrace(trace);  // the axis stays as it is under somebody's finger
  } catch (e) { complain(e); }
}

async function choose() {
  const c = state.cameras.find((x) => x.camera === camera());
  if (!c) return;
  view.set = { start: c.start_at, stay: c.stay_at };
  view.limits = Object.assign({}, view.set);
  showLimits();
  await show();
  tryLimits();
}

async function use() {
  try {
    if (!await save(changes())) return;
    view.set = Object.assign({}, view.limits);
    showLimits();
    tryLimits();
  } catch (e) { complain(e); }
}

export function begin() {
  $("limits-span").append(...SPANS.map(([key, s]) => make("option", { value: s, selected: s === 3600 }, t(key))));
  for (const id of ["limits-span", "limits-day"]) $(id).addEventListener("change", () => show().then(tryLimits));
  $("limits-use").addEventListener("click", use);
  $("limits-back").addEventListener("click", () => { view.limits = Object.assign({}, view.set); showLimits(); tryLimits(); });
  listen();
}

export async function enter(name) {
  view.camera = name;
  await choose();
  clearInterval(view.timer);
  view.timer = setInterval(() => { if (!document.hidden && !$("limits-day").value && !view.dragged) show().then(tryLimits); }, 3000);
}
export function leave() { clearInterval(view.timer); }
