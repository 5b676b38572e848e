// Several sightings at once: chosen in the list, or all of the day.
import { $, agree, ask, button, complain, make, mayRun, notice, t } from "./common.js";

const view = { chosen: new Set(), on: false, from: null };
const SAVED_MOST = 1000;  // numbers in one address

/** The box of a row, which is seen while several are chosen. */
export function box(id) {
  const b = make("input", { type: "checkbox", class: "form-check-input pick", "aria-label": t("choose-one", { n: id }), "data-pick": id });
  b.checked = view.chosen.has(id);
  b.addEventListener("change", () => { if (b.checked) view.chosen.add(id); else view.chosen.delete(id); say(); });
  return b;
}

const all = () => view.from.numbers();

function say() {
  const numbers = [...view.chosen], whole = all().length > 0 && all().every((n) => view.chosen.has(n)) && numbers.length === all().length;
  $("several-said").textContent = t("n-chosen", { n: numbers.length });
  for (const b of $("several").querySelectorAll("[data-act]")) b.disabled = numbers.length === 0;
  const save = $("several-save"), fits = (whole && view.from.packable()) || numbers.length <= SAVED_MOST;
  save.classList.toggle("disabled", numbers.length === 0 || !fits);
  save.title = fits ? "" : t("save-most", { n: SAVED_MOST });
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
    notice(t(words, { n: done.changed }) + (done.failed.length > 0 ? " " + t("n-failed", { n: done.failed.length, why: done.why }) : ""), done.failed.length > 0);
    await view.from.again(numbers);
  } catch (e) { complain(e); }
}

async function remove() {
  const numbers = [...view.chosen];
  if (!await agree(t("delete-several", { n: numbers.length }), make("p", {}, t("delete-several-help")), t("delete"), true)) return;
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
  const acts = (text, onclick) => button(text, onclick, { "data-act": true, class: "btn runs" });
  const name = make("input", { id: "several-name", class: "form-control", list: "named-before", placeholder: t("what-was-it"), maxlength: 200, autocomplete: "off", "aria-label": t("what-was-it-all") });
  const form = make("form", { class: "bar runs" }, name, make("button", { type: "submit", class: "btn", "data-act": true }, t("save")));
  form.addEventListener("submit", (event) => { event.preventDefault(); act({ name: name.value.trim() }, name.value.trim() ? "n-named" : "n-unnamed"); });
  $("several").append(make("span", { id: "several-said", role: "status", class: "small" }), button(t("all-of-them"), () => choose(all())), button(t("none-of-them"), () => choose([])),
    acts(t("star"), () => act({ star: true }, "n-starred")), acts(t("stars-off"), () => act({ star: false }, "n-unstarred")),
    acts(t("mark.right"), () => act({ mark: "right" }, "n-marked")), acts(t("mark.nothing"), () => act({ mark: "nothing" }, "n-marked")), form,
    acts(t("delete-dots"), remove), make("a", { class: "btn", id: "several-save" }, t("save-zip")));
}
