// The page: who is there, and which view is shown.
import { $, ask, complain, mayRun, notice, size, state, whenLoggedOut } from "./common.js";
import * as live from "./live.js";
import * as limits from "./limits.js";
import * as zones from "./zones.js";
import * as days from "./days.js";
import * as form from "./form.js";
import * as station from "./station.js";

const VIEWS = { live, limits, zones, sightings: days, settings: form, station };
const FOR_RUN = ["limits", "zones", "settings"];  // for who may change something
const FOR_ALL = [...FOR_RUN, "station"];           // for who may see all cameras
const isFor = (view) => (mayRun() || !FOR_RUN.includes(view)) && (!state.me.cameras || !FOR_ALL.includes(view));
let shown = null, timer = 0;

function leave() {
  if (shown && VIEWS[shown].leave) VIEWS[shown].leave();
  shown = null;
}

function show(which) {
  if (!VIEWS[which] || !isFor(which)) which = "live";
  if (shown === which) return null;
  leave();
  for (const v of Object.keys(VIEWS)) {
    $("view-" + v).hidden = v !== which;
    if (v === which) $("tab-" + v).setAttribute("aria-current", "page");
    else $("tab-" + v).removeAttribute("aria-current");
  }
  shown = which;
  notice("");
  return Promise.resolve(VIEWS[which].enter()).catch(complain);
}

// "#sightings/12" leads to one of them.
function follow() {
  const [view, number] = location.hash.slice(1).split("/");
  const ready = show(view);
  if (shown === "sightings" && Number(number) > 0) Promise.resolve(ready).then(() => days.open(Number(number))).catch(complain);
}

function showLogin() {
  clearInterval(timer);
  leave();
  live.clear();
  for (const v of Object.keys(VIEWS)) $("view-" + v).hidden = true;
  $("tabs").hidden = true;
  $("login").hidden = false;
  $("name").focus();
}

// @param early  What was asked for before it was known who is there.
async function refresh(early) {
  try {
    const s = (await early) || await ask("/api/status");
    state.cameras = s.cameras;
    for (const c of s.cameras) if (c.fps > 0) state.fps.set(c.camera, c.fps);
    live.refresh(s);
    if (shown === "station") station.refresh(s);
    const stopped = s.stopped.map((d) => d.destination);
    $("stopped").hidden = stopped.length === 0;
    $("stopped").textContent = "Sending to " + stopped.join(", ") + " stopped";
    $("stopped").title = s.stopped.map((d) => d.destination + ": " + d.why).join("\n");
    if (s.store) $("card").textContent = size(s.store.free_bytes) + " of " + size(s.store.total_bytes) + " free";
    if (state.kept) throw new Error("The station does not answer. This is what it said last.");
    if ($("notice").dataset.lost) { delete $("notice").dataset.lost; notice(""); }
  } catch (e) { $("notice").dataset.lost = "1"; complain(e); }
}

async function begin() {
  const early = fetch("/api/status").then((a) => a.ok ? a.json() : null).catch(() => null);
  state.me = await ask("/api/me");
  $("station-name").textContent = state.me.station;
  document.title = state.me.station + " - Tawny Watch";
  $("who").textContent = state.me.name ? state.me.name + " may " + state.me.may + (state.me.cameras ? ": " + state.me.cameras.replaceAll(" ", ", ") : "") : "";
  $("logout").hidden = !state.me.name;
  if (state.me.may === "nothing") { showLogin(); return; }
  $("login").hidden = true;
  $("tabs").hidden = false;
  for (const v of FOR_ALL) $("tab-" + v).hidden = !isFor(v);
  $("say-missed").hidden = !mayRun();
  await refresh(early);
  follow();
  clearInterval(timer);
  timer = setInterval(() => { if (!document.hidden) refresh(); }, 1000);
}

$("login").addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    await ask("/api/login", { name: $("name").value, password: $("password").value });
    $("password").value = "";
    notice("");
    await begin();
  } catch (e) { complain(e); }
});
$("logout").addEventListener("click", async () => {
  try { await ask("/api/logout", {}); } catch (e) { complain(e); }
  await begin();
  if ("caches" in window) await caches.delete("answers").catch(() => {});  // nobody else is to see them
});
addEventListener("hashchange", () => { if (state.me && state.me.may !== "nothing") follow(); });
whenLoggedOut(showLogin);
for (const v of Object.values(VIEWS)) if (v.begin) v.begin();
begin().catch(complain);

// Beside the page, once it is there: messages, and the page without a network.
if ("serviceWorker" in navigator) {
  addEventListener("load", () => navigator.serviceWorker.register("/worker.js").catch(() => {}));
  navigator.serviceWorker.addEventListener("message", (event) => { if (event.data && event.data.go) location.hash = event.data.go; });
}
