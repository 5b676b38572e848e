// The page: who is there, and which view is shown.
import { $, ask, complain, make, mayRun, notice, setTexts, state, t, whenLoggedOut } from "./common.js";
import { showWell } from "./amiss.js";
import * as came from "./came.js";
import { take } from "./early.js";

// A view comes when it is first gone to: the first is there at once.
const VIEWS = { came: () => came, live: () => import("./live.js"), sightings: () => import("./days.js"), right: () => import("./right.js"), settings: () => import("./form.js"), station: () => import("./station.js"), stations: () => import("./stations.js") };
const FOR_RUN = ["right", "settings"];      // for who may change something
const FOR_ALL = [...FOR_RUN, "station"];    // for who may see all cameras
const OTHER = { limits: "right/limits", zones: "right/zones" };
const OF_MANY = ["came", "live", "sightings", "settings", "stations"];  // of many stations; the others are of one, but for its zones
const isThere = (view) => state.me.many ? OF_MANY.includes(view) : view !== "stations" && (!state.me.cameras || !FOR_ALL.includes(view));
const isFor = (view) => isThere(view) && (mayRun() || !FOR_RUN.includes(view));
const ready = new Map();
let shown = null, timer = 0;

function leave() {
  const now = shown && ready.get(shown);
  if (now && now.leave) now.leave();
  shown = null;
}

async function bring(which) {
  if (ready.has(which)) return ready.get(which);
  const view = await VIEWS[which]();
  if (!ready.has(which)) { ready.set(which, view); if (view.begin) view.begin(); }
  return view;
}

function markLinks(view) {
  const which = state.me.many && view === "right" ? "settings" : view;
  for (const a of document.querySelectorAll("#tabs a, #foot a, #more a"))
    if ((a.dataset.view || a.id.slice(4)) === which) a.setAttribute("aria-current", "page");
    else a.removeAttribute("aria-current");
  $("more").hidden = true;
  $("more-open").setAttribute("aria-expanded", "false");
  if (["settings", "station"].includes(which)) $("more-open").setAttribute("aria-current", "true");
  else $("more-open").removeAttribute("aria-current");
}

// "#sightings/12" leads to one of them, "#live/kerb" to a camera, "#right/zones/mere" to its zones.
async function show(which, rest) {
  const zones = which === "right" && rest[0] === "zones" && state.me.many && mayRun();
  if (!VIEWS[which] || !(isFor(which) || zones)) { which = "came"; rest = []; }
  if (shown !== which) {
    leave();
    for (const v of Object.keys(VIEWS)) $("view-" + v).hidden = v !== which;
    $("view-login").hidden = true;
    shown = which;
    markLinks(which);
    notice("");
    scrollTo(0, 0);
    const view = await bring(which);
    if (shown === which) await view.enter(rest);
    return;
  }
  const view = await bring(which);
  if (view.follow) await view.follow(rest);
}

function follow() {
  const words = location.hash.slice(1).split("/").map(decodeURIComponent), first = OTHER[words[0]] ? OTHER[words[0]].split("/") : [words[0]];
  const [view, ...rest] = [...first, ...words.slice(1)];
  return show(view || "came", rest).catch(complain);
}

function showLogin() {
  clearInterval(timer);
  leave();
  if (ready.has("live")) ready.get("live").clear();
  for (const v of Object.keys(VIEWS)) $("view-" + v).hidden = true;
  for (const id of ["tabs", "foot", "well", "more"]) $(id).hidden = true;
  $("view-login").hidden = false;
  $("name").focus();
}

// ---- of many stations, which are looked at

const LISTED = 300;  // stations that can be chosen by name here; of more by their table
async function listScopes() {
  const list = $("scope");
  list.hidden = !state.me.many;
  if (list.hidden) return;
  const a = await ask("/api/stations"), names = a.stations.map((s) => s.station).sort(), groups = (state.status && state.status.groups) || [];
  const options = (kind, all) => all.map((n) => make("option", { value: kind + ":" + n }, n));
  list.replaceChildren(make("option", { value: "" }, t("all-stations")),
    ...(groups.length > 0 ? [make("optgroup", { label: t("groups") }, ...options("group", groups))] : []), make("optgroup", { label: t("view.stations") }, ...options("station", names.slice(0, LISTED))));
}

function choose(scope) {
  const list = $("scope");
  if (![...list.options].some((o) => o.value === scope)) list.append(make("option", { value: scope }, scope.replace(/^\w+:/, "")));
  list.value = scope;
  if (state.scope === scope) return;
  state.scope = scope;
  const was = shown;
  leave();
  refresh().then(() => { if (was && !shown) return follow(); }).catch(complain);
}

async function refresh() {
  try {
    const s = await take("/api/status") || await ask("/api/status");
    state.status = s;
    state.cameras = s.cameras;
    for (const c of s.cameras) if (c.fps > 0) state.fps.set(c.camera, c.fps);
    showWell(s);
    const view = shown && ready.get(shown);
    if (view && view.refresh) view.refresh(s);
    if (state.kept) throw new Error(t("no-answer") + " " + t("said-last"));
    if ($("notice").dataset.lost) { delete $("notice").dataset.lost; notice(""); }
  } catch (e) { $("notice").dataset.lost = "1"; complain(e); }
}

async function begin() {
  state.me = await take("/api/me") || await ask("/api/me");
  const title = state.me.many ? t("all-stations") : state.me.station;
  $("station-name").textContent = title;
  document.title = title + " - Tawny Watch";
  $("who").textContent = state.me.name;
  $("who").title = state.me.name ? t(state.me.may === "run" ? "can-change" : "can-look", { name: state.me.name }) + (state.me.cameras ? ": " + state.me.cameras.replaceAll(" ", ", ") : "") : "";
  $("logout").hidden = $("more-logout").hidden = !state.me.name;
  if (state.me.may === "nothing") { showLogin(); return; }
  $("tabs").hidden = $("foot").hidden = false;
  for (const a of document.querySelectorAll("#tabs a, #foot a, #more a")) a.hidden = !isFor(a.dataset.view || a.id.slice(4));
  $("more-open").hidden = !$("more").querySelector(":scope > :not([hidden])");
  await refresh();
  if (state.me.many) await listScopes().catch(complain);
  await follow();
  clearInterval(timer);
  timer = setInterval(() => { if (!document.hidden) refresh(); }, state.me.many ? 5000 : 1000);
}

async function logIn(event) {
  event.preventDefault();
  $("login-wrong").textContent = "";
  try {
    await ask("/api/login", { name: $("name").value, password: $("password").value });
    $("password").value = "";
    notice("");
    await begin();
  } catch (e) { $("login-wrong").textContent = e.status === 401 ? t("login-wrong") : e.status === 429 ? t("login-wait", { n: e.again || 1 }) : e.message; }
}

async function logOut() {
  try { await ask("/api/logout", {}); } catch (e) { complain(e); }
  await begin();
  if ("caches" in window) await caches.delete("answers").catch(() => {});  // nobody else is to see them
}

function turnMore() {
  $("more").hidden = !$("more").hidden;
  $("more-open").setAttribute("aria-expanded", String(!$("more").hidden));
}

setTexts(document);
$("login").addEventListener("submit", logIn);
$("logout").addEventListener("click", logOut);
$("more-logout").addEventListener("click", () => { turnMore(); logOut(); });
$("scope").addEventListener("change", () => choose($("scope").value));
state.choose = choose;
$("more-open").addEventListener("click", turnMore);
addEventListener("hashchange", () => { if (state.me && state.me.may !== "nothing") follow(); });
whenLoggedOut(showLogin);
begin().catch(complain);

// Beside the page, once it is there: messages, and the page without a network.
if ("serviceWorker" in navigator) {
  addEventListener("load", () => navigator.serviceWorker.register("/worker.js").catch(() => {}));
  navigator.serviceWorker.addEventListener("message", (event) => { if (event.data && event.data.go) location.hash = event.data.go; });
}
