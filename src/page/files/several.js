// Several sightings at once: chosen in the list, or all of the day.
import { $, agree, ask, button, complain, count, make, mayRun, notice } from "./common.js";

const view = { chosen: new Set(), on: false, from: null };
const SAVED_MOST = 1000;  // numbers in one address

/** The box of a row, which is seen while several are chosen. */
export function box(id) {
  const b = make("input", { type: "checkbox", class: "form-check-input pick", "aria-label": "Choose sighting " + id, "data-pick": id });
  b.checked = view.chosen.has(id);
  b.addEventListener("change", () => { if (b.checked) view.chosen.add(id); else view.chosen.delete(id); say(); });
  return b;
}

const all = () => view.from.numbers();

function say() {
  const numbers = [...view.chosen], whole = all().length > 0 && all().every((n) => view.chosen.has(n)) && numbers.length === all().length;
  $("several-said").textContent = count(numbers.length, "sighting") + " chosen.";
  for (const b of $("several").querySelectorAll("[data-act]")) b.disabled = numbers.length === 0;
  const save = $("several-save"), fits = (whole && view.from.packable()) || numbers.length <= SAVED_MOST;
  save.classList.toggle("disabled", numbers.length === 0 || !fits);
  save.title = fits ? "" : "At most " + SAVED_MOST + " at once, or all of them";
  if (numbers.length > 0 && fits) save.href = "/packed.zip?" + (whole && view.from.packable() ? view.from.filter() : "numbers=" + numbers.join(","));
  else save.removeAttribute("href");
}

function choose(numbers) {
  view.chosen = new Set(numbers);
  for (const b of $("list").querySelectorAll("[data-pick]")) b.checked = view.chosen.has(Number(b.dataset.pick));
  say();
}

async function act(change, words) {
  const numbers = [...view.chosen];
  try {
    const done = await ask("/api/sightings", Object.assign({ numbers }, change));
    notice(count(done.changed, "sighting") + " " + words + (done.failed.length > 0 ? "; " + done.failed.length + " not: " + done.why : "") + ".", done.failed.length > 0);
    await view.from.again(numbers);
  } catch (e) { complain(e); }
}

async function remove() {
  const numbers = [...view.chosen];
  if (!await agree("Delete " + count(numbers.length, "sighting") + "?", make("p", {}, "All that was captured of them goes, after ten seconds."), "Delete")) return;
  try {
    await ask("/api/sightings", { numbers, remove: true });
    choose([]);
    view.from.removed(numbers);
  } catch (e) { complain(e); }
}

function turn(on) {
  view.on = on;
  $("several").hidden = !on;
  $("list").classList.toggle("choosing", on);
  $("choose").setAttribute("aria-pressed", String(on));
  choose([]);
}

/** Another list is shown: what was chosen and is in it stays chosen. */
export function shown() {
  const there = new Set(all());
  choose([...view.chosen].filter((n) => there.has(n)));
  $("several").classList.toggle("may-run", mayRun());
}

/** @param from  numbers(): of all that the day has; filter(): how to ask for them, if packable(); again(numbers): they differ now;
 * removed(numbers). */
export function begin(from) {
  view.from = from;
  $("choose").addEventListener("click", () => turn(!view.on));
  const acts = (text, onclick) => button(text, onclick, { "data-act": true, class: "btn btn-sm runs" });
  const name = make("input", { id: "several-name", class: "form-control form-control-sm", list: "named-before", placeholder: "Who was it?", maxlength: 200, autocomplete: "off", "aria-label": "Who was it, in all of them?" });
  const form = make("form", { class: "bar runs" }, name, make("button", { type: "submit", class: "btn btn-sm", "data-act": true }, "Say so"));
  form.addEventListener("submit", (event) => { event.preventDefault(); act({ name: name.value.trim() }, name.value.trim() ? "named" : "without a name"); });
  $("several").append(make("span", { id: "several-said", role: "status", class: "small" }), button("All of them", () => choose(all())), button("None", () => choose([])),
    acts("Star", () => act({ star: true }, "starred")), acts("Take stars off", () => act({ star: false }, "without a star")),
    acts("Right", () => act({ mark: "right" }, "marked")), acts("Nothing there", () => act({ mark: "nothing" }, "marked")), form,
    acts("Delete\u2026", remove), make("a", { class: "btn btn-sm", id: "several-save" }, "Save as ZIP"));
}
