// What was there while no sighting was: said with camera and time, shown on the day's strips, taken back.
import { $, agree, ask, button, clock, complain, fillCameras, make, mayRun, notice, shape } from "./common.js";

let shown = 0; // which day is asked for: answers for an earlier one come too late

// As a field of the kind datetime-local has it.
function localText(t) {
  const d = new Date(t);
  return new Date(t - d.getTimezoneOffset() * 60000).toISOString().slice(0, 19);
}

// A dashed line, so that it is not taken for a sighting.
function setTick(strips, day, m) {
  const strip = strips.get(m.camera);
  if (!strip) return;
  const x = 1000 * (new Date(m.at).getTime() - day.from) / (day.until - day.from);
  strip.missed.append(shape("path", { class: "missed", d: "M" + x.toFixed(1) + " 0V40" }));
}

function row(m, again) {
  const text = m.camera + " " + clock(m.at) + " ";
  const back = () => ask("/api/missed", { take_back: m.number }).then(again).catch(complain);
  return make("li", {}, text, mayRun() ? button("Take back", back, { "aria-label": "Take back: missed by " + text }) : "");
}

/** All of a day, on its strips and as a list. @param strips  Of each camera, with a group for them. */
export async function showMissed(day, camera, strips) {
  const asked = ++shown, again = () => showMissed(day, camera, strips);
  const found = (await ask("/api/missed?" + new URLSearchParams({ from: day.from, until: day.until, camera }))).missed;
  if (asked !== shown) return;
  for (const strip of strips.values()) strip.missed.replaceChildren();
  for (const m of found) setTick(strips, day, m);
  $("missed").hidden = found.length === 0;
  $("missed-list").replaceChildren(...found.map((m) => row(m, again)));
}

/** Ask for camera and time, and say it to the station. @param t  What the fields begin with. */
export async function sayMissed(camera, t, done) {
  const which = make("select", { class: "form-select form-select-sm", id: "missed-camera" });
  const when = make("input", { class: "form-control form-control-sm", id: "missed-at", type: "datetime-local", step: "1", value: localText(t) });
  fillCameras(which, false);
  if (camera) which.value = camera;
  const body = make("div", {}, make("p", {}, "Somebody was there, and no sighting began. The next proposal from marks takes it into account, where footage of that time is stored."),
    make("div", { class: "bar fields" },
      make("div", {}, make("label", { class: "form-label small m-0", for: "missed-camera" }, "Camera"), which),
      make("div", {}, make("label", { class: "form-label small m-0", for: "missed-at" }, "When"), when)));
  if (!await agree("Something was missed", body, "Say so")) return;
  if (!when.value) { notice("Say when it was there.", true); return; }
  try { await ask("/api/missed", { camera: which.value, at: new Date(when.value).getTime() }); notice("It is noted."); await done(); }
  catch (e) { complain(e); }
}
