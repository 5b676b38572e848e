// A control for each kind of setting: a switch, a number with its unit, a time, a list, words.
import { button, make, t } from "./common.js";

const UNITS = [[/^a duration/, ["ms", "s", "min", "h", "d"]], [/^(a|a whole) percentage/, ["%"]], [/^a size/, ["B", "kB", "MB", "GB"]], [/^(a whole number|a number)/, [""]]];

/** The number in a value, and its unit; null: it is none of one number. */
export function split(value, units) {
  const found = /^(-?[\d.]+)\s*(\S*)$/.exec(value);
  return found && units.includes(found[2]) ? [found[1], found[2]] : null;
}

// What is written in a field of numbers, as the settings have it: "0,8" is 0.8, and "4 s" says its unit itself.
function join(text, unit) {
  const n = text.trim().replace(",", ".");
  return /^-?\d*\.?\d+$/.test(n) ? n + (unit ? " " + unit : "") : text.trim();
}

function numberField(row, own, units, note) {
  const now = split(row.shown, units) || split(row.preset, units) || ["", units[0]];
  const field = make("input", Object.assign({}, own, { class: "form-control", inputmode: "decimal", value: row.shown === "" ? "" : split(row.shown, units) ? now[0] : row.shown, placeholder: row.hint, autocomplete: "off" }));
  // A unit that fits what is there: half a minute is not told in days.
  const unit = units.length > 1 ? make("select", { class: "form-select", "aria-label": t("unit-of", { key: row.key }), disabled: own.disabled }, ...units.filter((u) => u !== "ms" || now[1] === "ms").map((u) => make("option", { value: u, selected: u === now[1] }, u))) : null;
  const tell = () => note(field.value.trim() === "" ? "" : join(field.value, unit ? unit.value : units[0]));
  field.addEventListener("input", tell);
  if (unit) unit.addEventListener("change", tell);
  return make("span", { class: "unit" }, field, unit || (units[0] ? make("span", {}, units[0]) : ""));
}

function switchField(row, own, note) {
  const box = make("input", Object.assign({}, own, { type: "checkbox", role: "switch", class: "switch" }));
  box.checked = row.shown === "yes";
  box.addEventListener("change", () => note(box.checked ? "yes" : "no"));
  return box;
}

function listField(row, own, note) {
  const words = row.choices.split(" ");
  return make("select", Object.assign({}, own, { class: "form-select", onchange: (e) => note(e.target.value) }),
    ...row.shown === "" ? [make("option", { value: "", selected: true }, row.hint)] : [], ...words.map((c) => make("option", { value: c, selected: c === row.shown }, c)));
}

// One to five, as buttons.
function dialField(row, own, note) {
  const group = make("div", { id: own.id, class: "seg", role: "group", "aria-describedby": own["aria-describedby"], "aria-label": row.label });
  for (const n of ["1", "2", "3", "4", "5"])
    group.append(button(n, () => { for (const b of group.children) b.setAttribute("aria-pressed", String(b.textContent === n)); note(n); }, { disabled: own.disabled, "aria-pressed": String(row.shown === n) }));
  return group;
}

function timeField(row, own, note) {
  return make("input", Object.assign({}, own, { class: "form-control", type: "time", value: row.shown === "none" ? "" : row.shown, oninput: (e) => note(e.target.value || "none") }));
}

function hoursField(row, own, note) {
  const known = { always: "always", "dusk-dawn": "dusk-dawn" };
  const field = make("input", Object.assign({}, own, { class: "form-control", value: row.shown, placeholder: row.hint || "22:00-05:00", autocomplete: "off", spellcheck: "false", oninput: (e) => note(e.target.value.trim()) }));
  const which = make("select", { class: "form-select", "aria-label": row.label, disabled: own.disabled, onchange: () => { field.hidden = which.value !== "own"; if (known[which.value]) { field.value = known[which.value]; note(field.value); } else field.focus(); } },
    ...["always", "dusk-dawn", "own"].map((v) => make("option", { value: v, selected: v === (known[row.shown] || "own") }, t("hours." + v))));
  field.hidden = which.value !== "own";
  return make("span", { class: "bar" }, which, field);
}

// Which destinations: one tap each.
function destinationsField(row, own, note) {
  const chosen = new Set(row.shown.split(/[\s,]+/).filter(Boolean)), group = make("div", { id: own.id, class: "bar", role: "group", "aria-label": row.label });
  for (const name of row.destinations) {
    const b = button(name, () => { if (chosen.has(name)) chosen.delete(name); else chosen.add(name); b.setAttribute("aria-pressed", String(chosen.has(name))); note([...chosen].join(", ")); }, { disabled: own.disabled, "aria-pressed": String(chosen.has(name)) });
    group.append(b);
  }
  return group;
}

function wordsField(row, own, note) {
  return make("input", Object.assign({}, own, { class: "form-control wide-field", value: row.shown, placeholder: row.hint, spellcheck: "false", autocapitalize: "none", autocomplete: "off", oninput: (e) => note(e.target.value.trim()) }));
}

function unitsOf(row) {
  const found = UNITS.find(([pattern]) => pattern.test(row.range));
  return found ? found[1] : null;
}

/** The control of a row: {key, shown, hint, preset, range, choices, label, destinations}.
 * @param own   Attributes: id, disabled... @param note  Is given each new value. */
export function control(row, own, note) {
  const units = unitsOf(row);
  if (row.choices === "no yes" || row.choices === "yes no") return row.shown === "" ? listField(row, own, note) : switchField(row, own, note);
  if (row.choices) return listField(row, own, note);
  if (row.key === "sensitivity" && row.head !== "zone") return dialField(row, own, note);
  if (row.key === "send_to" && row.destinations.length > 0 && row.hint === "") return destinationsField(row, own, note);
  if (row.key === "hours") return hoursField(row, own, note);
  if (/time of the day/.test(row.range) && row.shown !== "") return timeField(row, own, note);
  if (units && (row.shown === "" || split(row.shown, units))) return numberField(row, own, units, note);
  return wordsField(row, own, note);
}
