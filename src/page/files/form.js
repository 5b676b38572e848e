// Settings: a form made from the station's own table.
import { $, ask, button, chooser, complain, has, icon, make, notice, save, setChooser, state, t } from "./common.js";
import { control } from "./controls.js";
import * as nearby from "./near.js";
import * as words from "./words.js";

const view = { section: null, turn: 0, changed: new Map(), wrong: new Map(), file: "", sections: [], cameras: [], rows: [], depth: "basic" };

// What most people set, in the order in which they ask for it.
const BASIC = { station: ["name", "keep_free", "alarm_after", "daily_word", "daily_reel", "listen", "page_url", "species", "store", "names"],
  camera: ["source", "armed", "hours", "sensitivity", "start_at", "smallest", "pre_event", "post_event", "rest", "stills", "clips", "send_to"],
  destination: ["url", "user", "secret_file", "to", "what", "on", "when", "limit", "budget", "hours"] };
const MANY = { cameras: "camera", profile: "camera" };

// A section that holds at times is named "kerb when dark", or "when dark" of all cameras.
const atTimes = (s) => /(^| )when /.test(s.name);
const kindOf = (s) => MANY[s.head] || s.head;
const keyOf = (s) => s.head + " " + s.name;
const sameSection = (a, b) => a.head === b.head && a.name === b.name;
const unset = (row) => row.origin === "not set";
const isBuiltIn = (row) => row.origin === "built-in" || unset(row);

function titleOf(s) {
  const [name, at] = s.name.split(/(?:^| )when /), head = has("section." + s.head) ? t("section." + s.head) : s.head;
  return [head, name].filter(Boolean).join(" ") + (at ? ", " + t("section-when", { at: has("at." + at) ? t("at." + at) : at }) : "");
}

/** A setting's name in plain words; where there is none, its key. */
function labelOf(section, key) {
  const own = "set." + kindOf(section) + "." + key;
  return has(own) ? t(own) : has("set." + key) ? t("set." + key) : key;
}
function helpOf(section, row) {
  const own = has("help." + kindOf(section) + "." + row.key) ? t("help." + kindOf(section) + "." + row.key) : has("help." + row.key) ? t("help." + row.key) : "";
  return own || row.help;
}

// ---- what is changed

function mark() {
  const n = view.changed.size, wrong = view.wrong.size;
  $("save-bar").hidden = n === 0;
  $("form-said").replaceChildren(make("b", {}, t("n-changes", { n })), ...wrong > 0 ? [", ", button(t("n-mistakes", { n: wrong }), toMistake, { class: "link" })] : []);
  for (const row of $("form-rows").querySelectorAll(".setting")) row.classList.toggle("changed", view.changed.has(row.dataset.key));
}

function toMistake() {
  const field = $("set-" + [...view.wrong.keys()][0]);
  if (field) { field.scrollIntoView({ block: "center" }); field.focus(); }
}

function setWrong(key, text) {
  const row = $("form-rows").querySelector(".setting[data-key='" + key + "']"), field = $("set-" + key), box = row && row.querySelector(".wrong");
  if (text) view.wrong.set(key, text); else view.wrong.delete(key);
  if (box) box.textContent = text;
  if (field) { if (text) field.setAttribute("aria-invalid", "true"); else field.removeAttribute("aria-invalid"); }
}

function note(row, value) {
  if (value === (unset(row) ? "" : row.value)) view.changed.delete(row.key);
  else view.changed.set(row.key, value);
  setWrong(row.key, "");
  mark();
}

// What the station finds wrong stands at its field; what belongs to none, above.
function setMistakes(e) {
  const rest = [];
  for (const text of e.problems && e.problems.length > 0 ? e.problems : [e.message]) {
    const key = (/(?:^|[\s\].])([a-z_]+) = /.exec(text) || [])[1];
    if (key && view.changed.has(key)) setWrong(key, text.slice(text.indexOf(key + " = ")).replace(/^[a-z_]+ = [^:]*: /, (all) => all.length < text.length ? "" : all));
    else rest.push(text);
  }
  mark();
  notice(rest.length > 0 ? rest.join(" ") : t("n-mistakes-said", { n: view.wrong.size }), true);
  toMistake();
}

// ---- rows

function reset(row) {
  view.changed.set(row.key, null);
  const old = $("form-rows").querySelector(".setting[data-key='" + row.key + "']");
  old.replaceWith(setting(Object.assign({}, row, { value: row.preset, resetting: true })));
  mark();
}

function originOf(row) {
  if (row.resetting) return [t("will-be-reset")];
  if (unset(row)) return [];
  if (row.of > 1 && !isBuiltIn(row)) return [t("same-in", { n: row.same, of: row.of }) + (row.preset ? ", " + t("built-in-is", { value: row.preset }) : "")];
  if (isBuiltIn(row)) return [t("built-in") + (row.in_file_alone ? ", " + t("file-alone") : "")];
  if (row.origin === "--set") return [t("command-line")];
  if (state.me.many) return [t("set-there") + (row.preset ? ", " + t("built-in-is", { value: row.preset }) : "")];
  return [row.origin + (row.preset ? ", " + t("built-in-is", { value: row.preset }) : "") + (row.in_file_alone ? ", " + t("file-alone") : "")];
}

// Where the zones of a section's camera are drawn; "": nowhere, of many that are one station's.
function zonesOf(section) {
  const camera = encodeURIComponent(section.name.split("/")[0].split(/(?:^| )when /)[0]), [kind, station] = state.scope.split(/:(.*)/s);
  if (!["camera", "zone"].includes(section.head) || !camera) return "";
  if (!state.me.many) return "#right/zones/" + camera;
  return kind === "station" ? "#right/zones/" + encodeURIComponent(station) + "/" + camera : "";
}

function setting(row) {
  const s = view.section, id = "set-" + row.key, label = labelOf(s, row.key), other = !isBuiltIn(row) && !row.resetting;
  const destinations = view.sections.filter((o) => o.head === "destination").map((o) => o.name);
  const full = Object.assign({}, row, { shown: unset(row) ? "" : row.value, hint: unset(row) ? t("as-else") : "", label, head: s.head, destinations });
  const field = control(full, { id, "aria-describedby": id + "-help", disabled: row.in_file_alone || row.origin === "--set" }, (value) => note(row, value));
  const can = other && row.origin !== "--set" && !row.in_file_alone;
  const range = row.range ? row.range.charAt(0).toUpperCase() + row.range.slice(1) + "." : "";
  return make("div", { class: "setting" + (other ? " differs" : ""), "data-key": row.key, "data-words": (row.key + " " + label + " " + row.help + " " + row.group).toLowerCase() },
    make("div", { class: "what" }, make("label", { for: id }, other ? make("span", { class: "dif", title: t("differs") }, icon("sighting"), make("span", { class: "visually-hidden" }, t("differs"))) : "", label, " ", make("code", {}, row.key)),
      make("p", { class: "small dim help", id: id + "-help", title: helpOf(s, row) }, helpOf(s, row) + " ", make("span", { class: "range" }, range))),
    make("div", { class: "value" }, row.key === "area" && zonesOf(s) ? make("span", { class: "bar" }, field, make("a", { class: "btn", href: zonesOf(s) }, t("on-picture"))) : field, make("p", { class: "wrong", role: "alert" })),
    make("div", { class: "origin small dim" }, ...originOf(row), can ? button(t("reset"), () => reset(row), { class: "link", "aria-label": t("reset-key", { key: row.key }) }) : ""));
}

function groups(rows) {
  const found = new Map();
  for (const r of rows) {
    if (!found.has(r.group)) found.set(r.group, []);
    found.get(r.group).push(r);
  }
  return [...found].map(([name, list]) => make("div", { class: "part", role: "group", "aria-label": name }, make("h2", { class: "m" }, has("group." + name) ? t("group." + name) : name), make("div", { class: "c" }, ...list.map(setting))));
}

// What is searched for is searched in all of them.
function filter() {
  const words = $("form-find").value.toLowerCase().split(/\s+/).filter(Boolean), basic = BASIC[kindOf(view.section)], few = view.depth === "basic" && basic && words.length === 0;
  let any = false;
  for (const part of $("form-rows").querySelectorAll(".part")) {
    let some = false;
    for (const row of part.querySelectorAll(".setting")) {
      row.hidden = !words.every((w) => row.dataset.words.includes(w)) || (few && !basic.includes(row.dataset.key) && !view.changed.has(row.dataset.key) && !row.classList.contains("differs"));
      some = some || !row.hidden;
    }
    part.hidden = !some;
    any = any || some;
  }
  const none = $("form-none");
  if (none) none.hidden = any;
  if (none && !any) none.textContent = t("no-setting", { what: $("form-find").value });
}

// Whether a section that holds at times does now, by what the cameras say.
function wordHolds(section) {
  const [camera, at] = section.name.split(/(?:^| )when /);
  const now = view.cameras.filter((c) => (!camera || c.camera === camera) && (c.holds || "").split("; ").includes(at)).map((c) => c.camera);
  return now.length === 0 ? t("holds-not") : camera ? t("holds-now") : t("holds-for", { cameras: now.join(", ") });
}

// Answers come in any order: what was asked for last is shown.
async function open(section) {
  const turn = ++view.turn;
  try {
    const a = await ask("/api/settings?head=" + section.head + "&name=" + encodeURIComponent(section.name));
    if (turn !== view.turn) return;
    view.section = section;
    view.changed.clear();
    view.wrong.clear();
    view.rows = a.rows;
    $("form-title").textContent = titleOf(section);
    $("form-differ").textContent = atTimes(section) ? "" : t("n-differ", { n: a.rows.filter((r) => !isBuiltIn(r)).length });
    $("form-at").hidden = !atTimes(section);
    $("form-zones").hidden = !state.me.many || !zonesOf(section);
    $("form-zones").href = zonesOf(section);
    $("form-holds").textContent = atTimes(section) ? wordHolds(section) : "";
    $("form-remove").hidden = !view.sections.some((s) => sameSection(s, section));
    $("form-times-part").hidden = section.head !== "camera" || atTimes(section);
    $("form-depth").hidden = !BASIC[kindOf(section)] || atTimes(section);
    if (atTimes(section)) { view.depth = "all"; setChooser($("depth"), "all"); }
    $("form-rows").replaceChildren(...groups(a.rows), make("div", { class: "part" }, make("span", { class: "m" }), make("p", { class: "c", id: "form-none", hidden: true })));
    filter();
    mark();
    setSections(section);
  } catch (e) { complain(e); }
}

function setSections(section) {
  const list = $("form-sections"), all = view.sections.some((s) => sameSection(s, section)) ? view.sections : [...view.sections, section];
  list.replaceChildren(...all.map((s) => make("option", { value: keyOf(s), selected: sameSection(s, section) }, titleOf(s))));
}

// ---- writing

// What was written holds a moment later: the station reads it again.
// Whoever has gone on meanwhile, or has begun to change something else, stays there.
function later(section) {
  const turn = view.turn;
  setTimeout(() => { list(section, () => view.turn === turn && view.changed.size === 0).catch(complain); }, 700);
}

async function write() {
  const s = view.section;
  const changes = [...view.changed].map(([key, value]) => ({ head: s.head, name: s.name, key, value }));
  try {
    if (!await save(changes)) return;
    view.changed.clear();
    view.wrong.clear();
    mark();
    if (state.me.many) await words.again();
    later(s);
  } catch (e) { setMistakes(e); }
}

async function list(section, mayOpen = () => true) {
  const turn = view.turn, a = await ask("/api/settings");
  view.file = a.file;
  view.sections = a.sections;
  view.cameras = (await ask("/api/status")).cameras;
  $("form-file").textContent = !state.me.many ? (a.changeable ? t("written-to", { file: a.file }) : t("no-file")) :
    !a.changeable ? t("no-settings-key") : (a.told < a.stations ? t("sent-to-some", { n: a.told, of: a.stations }) : t("sent-to-n", { n: a.told })) + (a.seen < a.told ? " " + t("seen-first", { n: a.seen }) : "");
  if (turn === view.turn && mayOpen()) await open(section && a.sections.find((s) => sameSection(s, section)) || a.sections.find((s) => s.head === "camera") || a.sections[0]);
  else if (view.section) setSections(view.section);
}

// "dark", "light" or hours: the section is written with its first value.
async function addTimes(event) {
  event.preventDefault();
  const at = $("times-when").value.trim();
  if (at) await open({ head: "camera", name: view.section.name + " when " + at });
}

async function remove() {
  const s = view.section;
  try { if (await save([{ head: s.head, name: s.name, key: null, value: null }])) later(null); }
  catch (e) { complain(e); }
}

function turnAdd(on) {
  $("add-box").hidden = !on;
  $("add-open").setAttribute("aria-expanded", String(on));
  if (on) $("new-name").focus();
}

async function addCamera(event) {
  event.preventDefault();
  const name = $("new-name").value.trim(), value = $("new-source").value.trim(), second = $("new-second").value;
  const changes = [{ head: "camera", name, key: "source", value }];
  if (second) changes.push({ head: "camera", name, key: "detect_source", value: second });
  try {
    if (await save(changes)) { $("new-camera").reset(); $("new-second").value = ""; turnAdd(false); later({ head: "camera", name }); }
  } catch (e) { complain(e); }
}

async function restore(event) {
  const file = event.target.files[0];
  event.target.value = "";
  if (!file) return;
  try { if (await save([], "/api/settings/file", { text: await file.text() })) later(null); }
  catch (e) { notice(e.problems && e.problems.length > 1 ? e.problems.slice(0, 5).join(" ") : e.message, true); }
}

function setDepth(depth) { view.depth = depth; filter(); }

export function begin() {
  $("form-depth").append(chooser("depth", t("how-many-shown"), [["basic", t("basic")], ["all", t("all")]], view.depth, setDepth));
  $("form-sections").addEventListener("change", () => open(view.sections.find((s) => keyOf(s) === $("form-sections").value)));
  $("form-save").addEventListener("click", write);
  $("form-back").addEventListener("click", () => open(view.section));
  $("form-find").addEventListener("input", filter);
  $("form-restore").addEventListener("change", restore);
  $("form-times").addEventListener("submit", addTimes);
  $("form-remove").addEventListener("click", remove);
  $("add-open").addEventListener("click", () => turnAdd($("add-box").hidden));
  $("new-camera").addEventListener("submit", addCamera);
  $("new-source").addEventListener("input", () => { $("new-second").value = ""; });
  nearby.begin();
}

// Of many stations, none may show its settings.
function nothing(e) {
  if (!state.me.many) { complain(e); return; }
  view.sections = [];
  $("form-title").textContent = t("view.settings");
  $("form-sections").replaceChildren();
  for (const id of ["form-differ", "form-holds"]) $(id).textContent = "";
  for (const id of ["form-at", "form-times-part", "form-depth", "form-zones", "save-bar"]) $(id).hidden = true;
  $("form-rows").replaceChildren();
  $("form-file").textContent = e.message;
}

// "#settings/camera/kerb" leads to its section, "#settings/add" to another camera.
export async function enter(rest) {
  const to = rest.length > 1 ? { head: rest[0], name: rest.slice(1).join("/") } : view.section;
  $("form-of-one").hidden = state.me.many;
  await list(to).catch(nothing);
  if (state.me.many) await words.begin(() => { if (view.changed.size === 0) list(view.section, () => view.changed.size === 0).catch(nothing); }).catch(complain);
  if (rest[0] === "add") turnAdd(true);
}
export const follow = enter;
export function leave() { $("save-bar").hidden = true; words.end(); }
