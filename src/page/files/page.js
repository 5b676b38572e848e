// The page's own code: no library, no other host, nothing from strings into the document.
"use strict";
const $ = (id) => document.getElementById(id);
const state = { me: null, cameras: new Map(), sighting: 0, timer: 0 };

function make(tag, attributes, ...children) {
  const e = document.createElement(tag);
  for (const [k, v] of Object.entries(attributes || {})) {
    if (k === "class") e.className = v;
    else if (k.startsWith("on")) e.addEventListener(k.slice(2), v);
    else e.setAttribute(k, v);
  }
  e.append(...children);
  return e;
}

function notice(text) { $("notice").textContent = text; }

async function ask(path, change) {
  const options = change === undefined ? {} : {
    method: "POST", body: JSON.stringify(change),
    headers: { "Content-Type": "application/json", "X-Tawny-Change": state.me ? state.me.change : "" } };
  const answer = await fetch(path, options);
  const body = await answer.json().catch(() => ({}));
  if (answer.status === 401 && path !== "/api/login") showLogin();
  if (!answer.ok) throw new Error(body.error || "the station did not answer");
  return body;
}

// ---- logging in

function showLogin() {
  clearInterval(state.timer);
  $("tiles").replaceChildren();
  state.cameras.clear();
  for (const v of ["live", "sightings"]) $("view-" + v).hidden = true;
  $("login").hidden = false;
  $("name").focus();
}

async function begin() {
  state.me = await ask("/api/me");
  $("station").textContent = state.me.station;
  document.title = state.me.station + " - Tawny Watch";
  $("who").textContent = state.me.name ? state.me.name + " may " + state.me.may : "";
  $("logout").hidden = !state.me.name;
  if (state.me.may === "nothing") { showLogin(); return; }
  $("login").hidden = true;
  notice("");
  show("live");
  clearInterval(state.timer);
  state.timer = setInterval(refresh, 1000);
  refresh();
}

$("login").addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    await ask("/api/login", { name: $("name").value, password: $("password").value });
    $("password").value = "";
    await begin();
  } catch (e) { notice(e.message); }
});

$("logout").addEventListener("click", async () => {
  try { await ask("/api/logout", {}); } catch (e) { notice(e.message); }
  await begin();
});

// ---- views

function show(which) {
  for (const v of ["live", "sightings"]) {
    $("view-" + v).hidden = v !== which;
    $("tab-" + v).setAttribute("aria-pressed", String(v === which));
  }
  for (const t of state.cameras.values()) {  // nobody looks: nothing is sent
    const wanted = which === "live" ? "/live/" + encodeURIComponent(t.name) : "";
    if (wanted && t.image.getAttribute("src") !== wanted) t.image.src = wanted;
    if (!wanted) t.image.removeAttribute("src");
  }
  if (which === "sightings") listSightings();
}
$("tab-live").addEventListener("click", () => show("live"));
$("tab-sightings").addEventListener("click", () => show("sightings"));

// ---- live

const SVG = "http://www.w3.org/2000/svg";
function shape(tag, attributes) {
  const e = document.createElementNS(SVG, tag);
  for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
  return e;
}
const along = (percent) => 1000 * Math.sqrt(Math.min(percent, 100) / 100);  // small things are seen

function makeMeter(name) {
  const svg = shape("svg", { viewBox: "0 0 1000 20", preserveAspectRatio: "none", "aria-hidden": "true" });
  const parts = { level: shape("rect", { class: "level", x: 0, y: 0, width: 0, height: 20 }),
    stay: shape("line", { class: "tick stay", y1: 0, y2: 20 }), start: shape("line", { class: "tick", y1: 0, y2: 20 }),
    peak: shape("line", { class: "peak", y1: 0, y2: 20, opacity: 0 }) };
  svg.append(parts.level, parts.stay, parts.start, parts.peak);
  const box = make("div", { class: "meter", role: "meter", "aria-label": "Activity of " + name, "aria-valuemin": 0, "aria-valuemax": 100 });
  box.append(svg);
  return { box, parts, highest: 0, when: 0 };
}

function setMeter(m, c) {
  const at = (line, x) => { line.setAttribute("x1", x); line.setAttribute("x2", x); };
  m.parts.level.setAttribute("width", along(c.activity));
  m.parts.level.classList.toggle("start", c.activity >= c.start_at);
  at(m.parts.start, along(c.start_at)); at(m.parts.stay, along(c.stay_at));
  const now = Date.now();
  if (c.activity >= m.highest || now - m.when > 3000) { m.highest = c.activity; m.when = now; }
  at(m.parts.peak, along(m.highest));
  m.parts.peak.setAttribute("opacity", m.highest > 0 ? 1 - (now - m.when) / 4000 : 0);
  m.box.setAttribute("aria-valuenow", c.activity.toFixed(2));
  m.box.setAttribute("aria-valuetext", c.activity.toFixed(2) + " percent, begins at " + c.start_at + " percent");
}

function order(what, camera, extra) {
  return async () => {
    try { await ask("/api/order", Object.assign({ do: what, camera }, extra)); notice(""); refresh(); }
    catch (e) { notice(e.message); }
  };
}

function makeTile(c) {
  const t = { name: c.name, meter: makeMeter(c.name) };
  t.image = make("img", { alt: "Live picture of " + c.name });
  t.state = make("span", { class: "state" });
  t.line = make("small", {});
  t.level = make("small", {});
  t.element = make("article", { class: "tile", "aria-label": c.name });
  const picture = make("button", { type: "button", class: "picture", "aria-label": c.name + ", larger or smaller",
    onclick: () => t.element.classList.toggle("large") }, t.image);
  const buttons = make("div", { class: "d-flex flex-wrap gap-2 mt-2" });
  if (state.me.may === "run")
    buttons.append(
      make("button", { type: "button", class: "btn btn-sm", onclick: order("arm", c.name) }, "Arm"),
      make("button", { type: "button", class: "btn btn-sm", onclick: order("disarm", c.name, { for_s: 3600 }) }, "Disarm for 1 h"),
      make("button", { type: "button", class: "btn btn-sm", onclick: order("trigger", c.name) }, "Trigger"),
      make("button", { type: "button", class: "btn btn-sm", onclick: order("snap", c.name) }, "Snap"));
  t.element.append(picture, make("div", { class: "body" },
    make("div", { class: "d-flex justify-content-between align-items-center" }, make("h2", {}, c.name), t.state),
    t.meter.box, make("div", { class: "d-flex justify-content-between" }, t.level, t.line), buttons));
  $("tiles").append(t.element);
  if (!$("view-live").hidden) t.image.src = "/live/" + encodeURIComponent(c.name);
  return t;
}

const clock = (text) => new Date(text).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false });
const size = (bytes) => bytes < 1e6 ? Math.ceil(bytes / 1e3) + " kB" : bytes < 1e10 ? (bytes / 1e6).toFixed(1) + " MB" : (bytes / 1e9).toFixed(1) + " GB";

function setTile(t, c) {
  const word = c.state === "idle" ? "disarmed" : c.state;
  t.state.textContent = word;
  t.state.className = "state " + c.state;
  setMeter(t.meter, c);
  t.level.textContent = c.activity.toFixed(2) + " %, limit " + c.start_at + " %";
  t.line.textContent = c.lost_why ? c.lost_why : c.last ? c.sightings + (c.sightings === 1 ? " sighting, at " : " sightings, last at ") + clock(c.last) : "no sighting yet";
  if (c.width && c.height) t.image.parentElement.style.aspectRatio = c.width + " / " + c.height;
}

async function refresh() {
  try {
    const s = await ask("/api/status");
    for (const c of s.cameras) {
      if (!state.cameras.has(c.name)) {
        state.cameras.set(c.name, makeTile(c));
        $("camera").append(make("option", { value: c.name }, c.name));
      }
      setTile(state.cameras.get(c.name), c);
    }
    if (s.store) $("card").textContent = size(s.store.free_bytes) + " of " + size(s.store.total_bytes) + " free";
    if ($("notice").dataset.lost) { delete $("notice").dataset.lost; notice(""); }
  } catch (e) { $("notice").dataset.lost = "1"; notice(e.message === "Failed to fetch" ? "The station does not answer." : e.message); }
}

// ---- sightings

const address = (file) => "/captures/" + file.split("/").map(encodeURIComponent).join("/");

function today() {
  const d = new Date();
  return d.getFullYear() + "-" + String(d.getMonth() + 1).padStart(2, "0") + "-" + String(d.getDate()).padStart(2, "0");
}

async function listSightings() {
  if (!$("day").value) $("day").value = today();
  const from = new Date($("day").value + "T00:00:00").getTime();
  const next = new Date(from); next.setDate(next.getDate() + 1);
  const q = new URLSearchParams({ from, until: next.getTime(), camera: $("camera").value, starred: $("starred").checked ? "1" : "0" });
  try {
    const found = (await ask("/api/sightings?" + q)).sightings.reverse();
    $("list").replaceChildren(...found.map(makeRow));
    if (found.length === 0) $("detail").textContent = "Nothing was seen that day.";
    else showSighting(found[0].id);
  } catch (e) { notice(e.message); }
}
for (const id of ["day", "camera", "starred"]) $(id).addEventListener("change", listSightings);

function makeRow(s) {
  const image = make("img", { alt: "", loading: "lazy", "data-id": s.id });
  const text = make("span", {}, make("strong", {}, clock(s.start) + " " + s.camera), s.starred ? " \u2605 starred" : "",
    make("br", {}), make("small", {}, (s.end ? ((new Date(s.end) - new Date(s.start)) / 1000).toFixed(0) + " s" : "going on") +
      ", at most " + s.peak.toFixed(2) + " %, " + size(s.bytes)));
  const row = make("li", {}, make("button", { type: "button", onclick: () => showSighting(s.id), "data-id": s.id }, image, text));
  seen.observe(image);
  return row;
}

// Thumbnails are fetched as they come into view: thousands in a day stay quick.
const seen = new IntersectionObserver((entries) => {
  for (const e of entries) {
    if (!e.isIntersecting || e.target.src) continue;
    seen.unobserve(e.target);
    ask("/api/sightings/" + e.target.dataset.id).then((s) => {
      const still = s.captures.find((c) => c.file.endsWith(".jpg"));
      if (still) e.target.src = address(still.file);
    }).catch(() => {});
  }
});

async function showSighting(id) {
  state.sighting = id;
  for (const b of $("list").querySelectorAll("button")) b.setAttribute("aria-current", String(Number(b.dataset.id) === id));
  try {
    const s = await ask("/api/sightings/" + id);
    const clip = s.captures.find((c) => c.file.endsWith(".mp4")), still = s.captures.find((c) => c.file.endsWith(".jpg"));
    const parts = [make("h2", { class: "h6" }, s.camera + ", sighting " + s.number + ", " + new Date(s.start).toLocaleString([], { hour12: false })), make("p", {}, make("small", {}, s.why))];
    if (clip) parts.unshift(make("video", Object.assign({ controls: "", preload: "metadata", src: address(clip.file), "aria-label": "Clip of the sighting" }, still ? { poster: address(still.file) } : {})));
    else if (still) parts.unshift(make("img", { src: address(still.file), alt: "Still of the sighting" }));
    const row = make("div", { class: "d-flex flex-wrap gap-2 mb-2" });
    if (state.me.may === "run")
      row.append(make("button", { type: "button", class: "btn btn-sm", "aria-pressed": String(s.starred), onclick: () => star(s) }, s.starred ? "Take the star off" : "Star"));
    for (const c of s.captures) row.append(make("a", { class: "btn btn-sm", href: address(c.file) + "?save=1" }, "Save " + c.kind + " (" + size(c.bytes) + ")"));
    $("detail").replaceChildren(...parts, row);
  } catch (e) { notice(e.message); }
}

async function star(s) {
  try { await ask("/api/sightings/" + s.id, { star: !s.starred }); await listSightings(); showSighting(s.id); }
  catch (e) { notice(e.message); }
}

// Keys: j and k step through the list, s stars, space plays, . and , step a frame.
document.addEventListener("keydown", (event) => {
  if ($("view-sightings").hidden || /INPUT|SELECT|TEXTAREA/.test(event.target.tagName)) return;
  const rows = [...$("list").querySelectorAll("button")], at = rows.findIndex((b) => Number(b.dataset.id) === state.sighting);
  const video = $("detail").querySelector("video");
  const step = { j: 1, k: -1 }[event.key];
  if (step && rows[at + step]) { rows[at + step].focus(); rows[at + step].click(); }
  else if (video && (event.key === "." || event.key === ",")) { video.pause(); video.currentTime += event.key === "." ? 0.1 : -0.1; }
  else return;
  event.preventDefault();
});

begin().catch((e) => notice(e.message));
