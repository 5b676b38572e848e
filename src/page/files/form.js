// Settings: a form made from the station's own table.
import { $, ask, button, complain, make, notice, save } from "./common.js";
import * as nearby from "./near.js";

const view = { section: null, changed: new Map(), file: "", sections: [], cameras: [] };

// A section that holds at times is named "kerb when dark", or "when dark" of all cameras.
const atTimes = (s) => /(^| )when /.test(s.name);
const titleOf = (s) => s.head === "station" ? "Station" : s.head + " " + s.name;

const unset = (row) => row.origin === "not set";

function mark() {
  $("form-save").disabled = $("form-back").disabled = view.changed.size === 0;
  $("form-said").textContent = view.changed.size === 0 ? "" : view.changed.size + (view.changed.size === 1 ? " value is" : " values are") + " to change.";
  for (const row of $("form-rows").querySelectorAll(".setting")) row.classList.toggle("changed", view.changed.has(row.dataset.key));
}

function note(row, value) {
  if (value === (unset(row) ? "" : row.value)) view.changed.delete(row.key);
  else view.changed.set(row.key, value);
  mark();
}

// A value is one of a few words, or a text.
function input(row, id) {
  const own = { id, "aria-describedby": id + "-help", disabled: row.in_file_alone || row.origin === "--set" };
  if (row.choices)
    return make("select", Object.assign(own, { class: "form-select form-select-sm", onchange: (e) => note(row, e.target.value) }),
      ...unset(row) ? [make("option", { value: "", selected: true }, "as at other times")] : [], ...row.choices.split(" ").map((c) => make("option", { value: c, selected: !unset(row) && c === row.value }, c)));
  return make("input", Object.assign(own, { class: "form-control form-control-sm", value: unset(row) ? "" : row.value, placeholder: unset(row) ? "as at other times" : "", spellcheck: "false", autocapitalize: "none", autocomplete: "off",
    oninput: (e) => note(row, e.target.value.trim()) }));
}

function setting(row) {
  const id = "set-" + row.key, built = row.origin === "built-in" || unset(row);
  const field = input(row, id);
  const origin = make("span", { class: "origin" }, unset(row) ? "" : built ? "built-in" + (row.in_file_alone ? ", changed in the file alone" : "") : row.origin === "--set" ? "set on the command line" : row.origin + (row.in_file_alone ? ", changed there alone" : ""));
  const back = built || row.origin === "--set" || row.in_file_alone ? "" :
    button("Take it out", () => { view.changed.set(row.key, null); field.value = row.choices ? row.preset : ""; field.placeholder = "taken out"; mark(); }, { class: "btn btn-sm small", "aria-label": "Take it out: " + row.key + " is inherited then" });
  return make("div", { class: "setting", "data-key": row.key, "data-words": (row.key + " " + row.help + " " + row.group).toLowerCase() },
    make("div", { class: "ends" }, make("label", { for: id }, row.key), origin), make("div", { class: "value" }, field, back),
    make("p", { class: "small help", id: id + "-help" }, row.help + " " + row.range.charAt(0).toUpperCase() + row.range.slice(1) + ". Built-in: " + (row.preset || "nothing") + "."));
}

function groups(rows) {
  const found = new Map();
  for (const r of rows) {
    if (!found.has(r.group)) found.set(r.group, []);
    found.get(r.group).push(r);
  }
  return [...found].map(([name, list]) => make("fieldset", {}, make("legend", { class: "h6" }, name), ...list.map(setting)));
}

function filter() {
  const words = $("form-find").value.toLowerCase().split(/\s+/).filter(Boolean);
  for (const f of $("form-rows").querySelectorAll("fieldset")) {
    let any = false;
    for (const row of f.querySelectorAll(".setting")) {
      row.hidden = !words.every((w) => row.dataset.words.includes(w));
      any = any || !row.hidden;
    }
    f.hidden = !any;
  }
}

const sameSection = (a, b) => a.head === b.head && a.name === b.name;

// Whether a section that holds at times does now, by what the cameras say.
function wordHolds(section) {
  const [camera, when] = section.name.split(/(?:^| )when /);
  const now = view.cameras.filter((c) => (!camera || c.camera === camera) && (c.holds || "").split("; ").includes(when)).map((c) => c.camera);
  return now.length === 0 ? "It does not hold now." : camera ? "It holds now." : "It holds now for " + now.join(", ") + ".";
}

async function open(section) {
  try {
    const a = await ask("/api/settings?head=" + section.head + "&name=" + encodeURIComponent(section.name));
    view.section = section;
    view.changed.clear();
    $("form-title").textContent = titleOf(section);
    $("form-at").hidden = !atTimes(section);
    $("form-holds").textContent = atTimes(section) ? wordHolds(section) : "";
    $("form-remove").hidden = !view.sections.some((s) => sameSection(s, section));
    $("form-times").hidden = section.head !== "camera" || atTimes(section);
    $("form-rows").replaceChildren(...groups(a.rows));
    filter();
    mark();
  } catch (e) { complain(e); return; }
  for (const b of $("form-sections").querySelectorAll("button")) b.setAttribute("aria-pressed", String(b.dataset.of === section.head + " " + section.name));
}

// What was written holds a moment later: the station reads it again.
// Whoever has gone on meanwhile, or has begun to change something else, stays there.
function later(section) {
  const from = view.section;
  setTimeout(() => { list(section, view.section !== from || view.changed.size > 0).catch(complain); }, 700);
}

async function write() {
  const s = view.section;
  const changes = [...view.changed].map(([key, value]) => ({ head: s.head, name: s.name, key, value }));
  try {
    if (!await save(changes)) return;
    view.changed.clear();
    later(s);
  } catch (e) { notice(e.problems && e.problems.length > 1 ? e.problems.join(" ") : e.message, true); }
}

async function list(section, stays) {
  const a = await ask("/api/settings");
  view.file = a.file;
  view.sections = a.sections;
  view.cameras = (await ask("/api/status")).cameras;
  $("form-sections").replaceChildren(...a.sections.map((s) => make("li", {}, button(titleOf(s), () => open(s), { "data-of": s.head + " " + s.name }))));
  $("form-file").textContent = a.changeable ? "What is changed here is written to " + a.file + "." : "The station runs without a file: nothing can be changed here.";
  if (!stays) await open(section && a.sections.find((s) => s.head === section.head && s.name === section.name) || a.sections[0]);
}

// "dark", "light" or hours: the section is written with its first value.
async function addTimes(event) {
  event.preventDefault();
  const when = $("times-when").value.trim();
  if (when) await open({ head: "camera", name: view.section.name + " when " + when });
}

async function remove() {
  const s = view.section;
  try { if (await save([{ head: s.head, name: s.name, key: null, value: null }])) later(null); }
  catch (e) { complain(e); }
}

async function addCamera(event) {
  event.preventDefault();
  const name = $("new-name").value.trim(), value = $("new-source").value.trim(), second = $("new-second").value;
  const changes = [{ head: "camera", name, key: "source", value }];
  if (second) changes.push({ head: "camera", name, key: "detect_source", value: second });
  try {
    if (await save(changes)) { $("new-camera").reset(); $("new-second").value = ""; later({ head: "camera", name }); }
  } catch (e) { complain(e); }
}

async function restore(event) {
  const file = event.target.files[0];
  event.target.value = "";
  if (!file) return;
  try { if (await save([], "/api/settings/file", { text: await file.text() })) later(null); }
  catch (e) { notice(e.problems && e.problems.length > 1 ? e.problems.slice(0, 5).join(" ") : e.message, true); }
}

export function begin() {
  $("form-save").addEventListener("click", write);
  $("form-back").addEventListener("click", () => open(view.section));
  $("form-find").addEventListener("input", filter);
  $("form-restore").addEventListener("change", restore);
  $("form-times").addEventListener("submit", addTimes);
  $("form-remove").addEventListener("click", remove);
  $("new-camera").addEventListener("submit", addCamera);
  $("new-source").addEventListener("input", () => { $("new-second").value = ""; });
  nearby.begin();
}
export async function enter() { await list(view.section).catch(complain); }
export function leave() {}
