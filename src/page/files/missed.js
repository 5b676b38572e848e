// What was there while no sighting was: said with camera and time, shown on the day's strips, taken back.
import { $, agree, ask, button, clock, complain, fillCameras, make, mayRun, notice, t } from "./common.js";

let shown = 0; // which day is asked for: answers for an earlier one come too late

// As a field of the kind datetime-local has it.
function localText(time) {
  const d = new Date(time);
  return new Date(time - d.getTimezoneOffset() * 60000).toISOString().slice(0, 19);
}

function row(m, again) {
  const text = m.camera + " " + clock(m.at) + " ";
  const back = () => ask("/api/missed", { take_back: m.number }).then(again).catch(complain);
  return make("li", {}, text, mayRun() ? button(t("take-back"), back, { class: "btn bare small", "aria-label": t("take-back-of", { what: text }) }) : "");
}

/** All of a day, on its strips and as a list. @param onStrips  Is given them. */
export async function showMissed(day, camera, onStrips) {
  const asked = ++shown, again = () => showMissed(day, camera, onStrips);
  const found = (await ask("/api/missed?" + new URLSearchParams({ from: day.from, until: day.until, camera }))).missed;
  if (asked !== shown) return;
  onStrips(found);
  $("missed").hidden = found.length === 0;
  $("missed-list").replaceChildren(...found.map((m) => row(m, again)));
}

/** Ask for camera and time, and say it to the station. @param time  What the fields begin with. */
export async function sayMissed(camera, time, done) {
  const which = make("select", { class: "form-select", id: "missed-camera" });
  const when = make("input", { class: "form-control", id: "missed-at", type: "datetime-local", step: "1", value: localText(time) });
  fillCameras(which);
  if (camera) which.value = camera;
  const body = make("div", {}, make("p", {}, t("missed-help")),
    make("div", { class: "bar fields" },
      make("div", {}, make("label", { class: "small", for: "missed-camera" }, t("camera")), which),
      make("div", {}, make("label", { class: "small", for: "missed-at" }, t("when")), when)));
  if (!await agree(t("something-missed"), body, t("save"))) return;
  if (!when.value) { notice(t("say-when"), true); return; }
  try { await ask("/api/missed", { camera: which.value, at: new Date(when.value).getTime() }); notice(t("noted")); await done(); }
  catch (e) { complain(e); }
}
