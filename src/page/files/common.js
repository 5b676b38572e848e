// What the views share: asking the station, making elements, wording.
import { TEXTS } from "./texts.js";

export const $ = (id) => document.getElementById(id);
export const state = { me: null, cameras: [], status: null, fps: new Map(), kept: false, since: null,
  scope: "", choose: () => {} };  // of many stations: "", "group:lane" or "station:north"

// ---- language: of the browser's, the first that there are texts in

// In the order of the columns of texts.js, with how they write numbers: the browser's own rules are dear to load,
// and these are as it has them.
const LANGUAGES = { en: { one: (n) => n === 1, point: ".", group: "," }, de: { one: (n) => n === 1, point: ",", group: "." } };
const wanted = (navigator.languages || [navigator.language || "en"]).map((l) => [l, l.slice(0, 2).toLowerCase()]);
const found = wanted.find(([, short]) => short in LANGUAGES) || ["en", "en"];
export const language = found[1];
const column = Object.keys(LANGUAGES).indexOf(language), rule = LANGUAGES[language];
// Words in the language of the page; hours as the reader is used to them.
const once = (make) => { let made = null; return () => made ??= make(); };  // to make one is dear
const hourCycle = once(() => new Intl.DateTimeFormat(navigator.language, { hour: "numeric" }).resolvedOptions().hourCycle);
const format = (options) => {
  const f = once(() => new Intl.DateTimeFormat(found[0], options.hour ? { ...options, hourCycle: hourCycle() } : options));
  return (t) => f().format(new Date(t));
};

/** A text of the table. "one|many" is chosen by n; {names} stand for values. */
export function t(key, values = {}) {
  const row = TEXTS[key];
  if (!row) return key;
  const forms = row[column].split("|");
  const text = forms.length > 1 && !rule.one(values.n) ? forms[1] : forms[0];
  return text.replace(/\{(\w+)\}/g, (all, name) => name in values ? (typeof values[name] === "number" ? number(values[name]) : values[name]) : all);
}
export const has = (key) => key in TEXTS;

/** Put the texts into what the document has: data-t, and the same for attributes. */
export function setTexts(root) {
  document.documentElement.lang = language;
  const put = (name, set) => { for (const e of root.querySelectorAll("[" + name + "]")) set(e, t(e.getAttribute(name))); };
  put("data-t", (e, text) => { e.append(text); });
  put("data-t-label", (e, text) => e.setAttribute("aria-label", text));
  put("data-t-hint", (e, text) => e.setAttribute("placeholder", text));
}

// ---- numbers and times, as the reader writes them

/** 1,234.5: rounded to so many digits. */
export function number(x, digits = 0) {
  const [whole, part] = x.toFixed(digits).split(".");
  return whole.replace(/\B(?=(\d{3})+$)/g, rule.group) + (part ? rule.point + part : "");
}
/** 0.05, 1.4, 23: with a point, as fields have it. */
export function plain(x) {
  return x >= 10 ? x.toFixed(0) : x >= 1 ? x.toFixed(1) : x >= 0.1 ? x.toFixed(2) : String(Number(x.toFixed(3)));
}
export const percent = (x) => String(Number(plain(x))).replace(".", rule.point) + "\u00a0%";
export const size = (bytes) => bytes < 1e6 ? number(Math.ceil(bytes / 1e3)) + "\u00a0kB" : bytes < 1e9 ? number(bytes / 1e6, bytes < 1e7 ? 1 : 0) + "\u00a0MB" : number(bytes / 1e9, 1) + "\u00a0GB";
export const clock = format({ hour: "2-digit", minute: "2-digit", second: "2-digit" });
export const minute = format({ hour: "2-digit", minute: "2-digit" });
const hourOf = format({ hour: "numeric" });
/** An hour on an axis: 21, or 9 PM. */
export const hour = (time) => ["h11", "h12"].includes(hourCycle()) ? hourOf(time) : String(new Date(time).getHours()).padStart(2, "0");
export const dayWords = format({ weekday: "short", day: "numeric", month: "long" });
export const dayShort = format({ weekday: "short", day: "numeric", month: "short" });
const daySame = format({ year: "numeric", month: "numeric", day: "numeric" });
/** Today a time alone suffices. */
export const when = (time) => daySame(time) === daySame(Date.now()) ? minute(time) : dayShort(time) + ", " + minute(time);
/** 14 s, 1 min 4 s, 2 h 5 min, 3 days */
export function lasting(ms) {
  const s = Math.max(0, Math.round(ms / 1000)), m = Math.floor(s / 60), h = Math.floor(m / 60);
  if (h >= 48) return t("days", { n: Math.round(h / 24) });
  if (h > 0) return h + "\u00a0h" + (m % 60 ? " " + m % 60 + "\u00a0min" : "");
  return m > 0 ? m + "\u00a0min" + (s % 60 ? " " + s % 60 + "\u00a0s" : "") : s + "\u00a0s";
}
/** "kerb, tunnel and mere" */
export const listed = (words) => new Intl.ListFormat(found[0], { type: "conjunction" }).format(words);

// ---- elements

/** An element. Attributes that begin with "on" are listeners; false leaves one out. */
export function make(tag, attributes, ...children) {
  const e = document.createElement(tag);
  for (const [k, v] of Object.entries(attributes || {})) {
    if (v === false || v === undefined) continue;
    if (k === "class") e.className = v;
    else if (k.startsWith("on")) e.addEventListener(k.slice(2), v);
    else e.setAttribute(k, v === true ? "" : v);
  }
  e.append(...children);
  return e;
}

const SVG = "http://www.w3.org/2000/svg";
export function shape(tag, attributes, ...children) {
  const e = document.createElementNS(SVG, tag);
  for (const [k, v] of Object.entries(attributes || {})) e.setAttribute(k, v);
  e.append(...children);
  return e;
}

/** One of the signs of page.html, for who sees. */
export const icon = (name) => shape("svg", { class: "i", viewBox: "0 0 20 20", "aria-hidden": "true" }, shape("use", { href: "#i-" + name }));

export const button = (text, onclick, more) =>
  make("button", Object.assign({ type: "button", class: "btn", onclick }, more), ...(Array.isArray(text) ? text : [text]));
/** With a sign before its word; or, bare, the sign alone, and the word for who hears. */
export const signed = (sign, text, onclick, more) => button([icon(sign), make("span", {}, text)], onclick, more);
export const bare = (sign, text, onclick, more) => button(icon(sign), onclick, Object.assign({ class: "btn bare ic", "aria-label": text, title: text }, more));

/** One of few: buttons in a row, or a list where they are many. @return the element, with value. */
export function chooser(id, label, options, value, onchange) {
  if (options.length > 5) {
    const list = make("select", { id, class: "form-select", "aria-label": label, onchange: () => onchange(list.value) },
      ...options.map(([v, text]) => make("option", { value: v, selected: v === value }, text)));
    return list;
  }
  const group = make("div", { id, class: "seg", role: "group", "aria-label": label });
  for (const [v, text] of options)
    group.append(button(text, () => {
      for (const b of group.children) b.setAttribute("aria-pressed", String(b.dataset.value === v));
      onchange(v);
    }, { "data-value": v, "aria-pressed": String(v === value) }));
  return group;
}
/** The same for cameras. */
export const cameraChooser = (id, all, value, onchange) =>
  chooser(id, t("camera"), [...(all ? [["", t("all")]] : []), ...state.cameras.map((c) => [c.camera, c.camera])], value, onchange);

/** A button that opens a few ways. @param ways  [[text, act]], or elements. */
export function menuButton(sign, text, ways, more) {
  const menu = make("div", { class: "menu", hidden: true }), open = signed(sign, text, () => turn(menu.hidden), Object.assign({ "aria-expanded": "false" }, more));
  const turn = (on) => { menu.hidden = !on; open.setAttribute("aria-expanded", String(on)); if (on) menu.firstElementChild.focus(); };
  menu.append(...ways.map((w) => w instanceof Element ? w : button(w[0], () => { turn(false); w[1](); })));
  const box = make("span", { class: "menu-box" }, open, menu);
  box.addEventListener("keydown", (event) => { if (event.key === "Escape" && !menu.hidden) { event.stopPropagation(); turn(false); open.focus(); } });
  box.addEventListener("focusout", (event) => { if (!box.contains(event.relatedTarget)) turn(false); });
  return box;
}

/** Show a value in a chooser without telling of it. */
export function setChooser(e, value) {
  if (e.tagName === "SELECT") e.value = value;
  else for (const b of e.children) b.setAttribute("aria-pressed", String(b.dataset.value === value));
}

/** Said to who listens as well; bad: something went wrong. */
let fading = 0;
export function notice(text, bad) {
  clearTimeout(fading);
  if (text && !bad) fading = setTimeout(() => { $("notice").textContent = ""; }, 10000);
  $("notice").textContent = text;
  $("notice").classList.toggle("bad", Boolean(bad));
}
export const complain = (e) => notice(e.message === "Failed to fetch" ? t("no-answer") : e.message, true);

let onLogin = () => {};
export function whenLoggedOut(f) { onLogin = f; }

// Of many stations those are asked for that are looked at.
const SCOPED = /^\/api\/(status|stations|sightings|nights|order|settings|words|zones\/[^/?]+)(\?|$)/;
function scoped(path) {
  if (!state.me || !state.me.many || !state.scope || !SCOPED.test(path)) return path;
  const [kind, name] = state.scope.split(/:(.*)/s);
  return path + (path.includes("?") ? "&" : "?") + kind + "=" + encodeURIComponent(name);
}

/** Ask the station; with a second argument, change something. */
export async function ask(path, change) {
  const options = change === undefined ? {} : {
    method: "POST", body: JSON.stringify(change),
    headers: { "Content-Type": "application/json", "X-Tawny-Change": state.me ? state.me.change : "" } };
  const answer = await fetch(scoped(path), options);
  const body = await answer.json().catch(() => ({}));
  state.kept = answer.headers.has("X-Tawny-Kept");  // what the station said before it could not be reached
  if (answer.status === 401 && path !== "/api/login") onLogin();
  if (!answer.ok) {
    const e = new Error(body.error || t("no-answer"));
    e.problems = body.problems || [];
    e.status = answer.status;
    e.again = Number(answer.headers.get("Retry-After")) || 0;
    throw e;
  }
  return body;
}

/** Ask in a dialog; resolves to whether it was agreed to. @param danger  Something goes for good. */
export function agree(title, body, yes, danger) {
  return new Promise((resolve) => {
    const d = make("dialog", { "aria-labelledby": "dialog-title" });
    const end = (answer) => { d.close(); d.remove(); resolve(answer); };
    d.append(make("h2", { id: "dialog-title" }, title), body,
      make("div", { class: "bar ends-right" }, button(t("cancel"), () => end(false), { id: "dialog-no" }),
        button(yes, () => end(true), { class: danger ? "btn act danger" : "btn act", id: "dialog-yes" })));
    d.addEventListener("cancel", (event) => { event.preventDefault(); end(false); });
    document.body.append(d);
    d.showModal();
    d.querySelector("#dialog-yes").focus();
  });
}

/** The lines of a file that change, as a list that can be read aloud too. */
export function lineList(lines) {
  const list = make("ul", { class: "lines" });
  for (const l of lines) {
    if (l.before !== null) list.append(make("li", { class: "before" }, make("span", { class: "where" }, l.file + ":" + l.line + " "), make("del", {}, l.before || " ")));
    if (l.after !== null) list.append(make("li", { class: "after" }, make("span", { class: "where" }, l.file + ":" + l.line + " "), make("ins", {}, l.after || " ")));
  }
  return list;
}

/** Show what would change, and change it if that is agreed to. @return what was written. */
export async function save(changes, path = "/api/settings", body = { changes }) {
  const draft = await ask(path, Object.assign({ write: false }, body));
  if (draft.lines.length === 0) { notice(t("nothing-changes")); return null; }
  const shown = make("div", {}, lineList(draft.lines.slice(0, 200)));
  if (draft.lines.length > 200) shown.append(make("p", {}, t("more-lines", { n: draft.lines.length - 200 })));
  if (draft.restart) shown.append(make("p", { class: "small" }, t("from-next-start")));
  if (!await agree(t("lines-change", { n: draft.lines.length }), shown, draft.told !== undefined ? t("sign-and-send") : t("write-them", { n: draft.lines.length }))) return null;
  const done = await ask(path, Object.assign({ write: true }, body));
  notice(done.told !== undefined ? t("sent-n", { n: done.told }) : t("written") + (done.restart ? " " + t("some-next-start") : ""));
  return done;
}

export const along = (x) => Math.sqrt(Math.max(0, Math.min(x, 100)) / 100);  // small things are seen
// ---- many stations as one

/** A sighting's name in an address: a number, or, of many stations, STATION/SERIES/NUMBER. */
export const idWords = (id) => String(id).split("/").map(encodeURIComponent).join("/");
/** The same from the words of an address; 0, "": there is none. */
export const idOf = (rest) => state.me.many ? rest.slice(0, 3).join("/") : Number(rest[0]) || 0;
export const stationOf = (camera) => camera.split("/")[0];
/** Whether sightings can be removed, sent and the like here: of many, each station keeps its own. */
export const mayKeep = () => mayRun() && !state.me.many;

const LINES = 12;
/** The lines of a chart: a camera each, or, where those are many, a station each. @param cameras  Of what is shown. */
export function linesOf(cameras) {
  const known = state.cameras.map((c) => c.camera), count = new Map();
  if (!state.me.many || (known.length > 0 && known.length <= LINES)) return { names: known, of: (camera) => camera };
  for (const c of cameras) count.set(stationOf(c), (count.get(stationOf(c)) || 0) + 1);
  const most = [...count].sort((a, b) => b[1] - a[1]).slice(0, LINES).map(([name]) => name).sort();
  return { names: count.size > LINES ? [...most, t("others")] : most, of: (camera) => most.includes(stationOf(camera)) ? stationOf(camera) : t("others") };
}

/** A table that can be scrolled where it is too wide. @param right  Columns of numbers. */
export function table(heads, rows, caption, right = []) {
  const kind = (i) => right.includes(i) ? "num" : "";
  return make("div", { class: "wide", tabindex: 0, role: "region", "aria-label": caption }, make("table", {}, make("caption", { class: "visually-hidden" }, caption),
    make("thead", {}, make("tr", {}, ...heads.map((h, i) => make("th", { scope: "col", class: kind(i) }, h || make("span", { class: "visually-hidden" }, t("to-do")))))),
    make("tbody", {}, ...rows.map((r) => make("tr", {}, ...r.map((c, i) => make(i === 0 ? "th" : "td", Object.assign({ class: kind(i) }, i === 0 ? { scope: "row" } : {}), ...[c].flat())))))));
}

export const mayRun = () => state.me && state.me.may === "run";
export const isNarrow = () => matchMedia("(max-width: 767px)").matches;

/** Something that is asked for more often than it can be done: one at a time, and the last time counts. */
export function oneAtATime(work) {
  let under = false, again = false;
  return async () => {
    if (under) { again = true; return; }
    under = true;
    try { do { again = false; await work(); } while (again); }
    finally { under = false; }
  };
}

/** Fill a list of cameras, and keep what was chosen. */
export function fillCameras(select) {
  const before = select.value;
  select.replaceChildren(...state.cameras.map((c) => make("option", { value: c.camera }, c.camera)));
  if ([...select.options].some((o) => o.value === before)) select.value = before;
}

/** The newest picture of a camera. Few are fetched at once: a browser has six connections, and asking is to go on. */
let busy = 0;
const waiting = [];
export async function picture(camera, after) {
  while (busy >= 4) await new Promise((resolve) => waiting.push(resolve));
  busy++;
  try {
    const answer = await fetch("/picture/" + encodeURIComponent(camera) + "?after=" + (after || 0));
    if (!answer.ok) throw new Error("no picture");
    const tag = (answer.headers.get("ETag") || "").replace(/"/g, "");
    return { number: Number(tag), bitmap: await createImageBitmap(await answer.blob()) };
  } finally {
    busy--;
    const next = waiting.shift();
    if (next) next();
  }
}
export const pause = (ms) => new Promise((resolve) => setTimeout(resolve, ms));
export const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue("--" + name).trim();
/** Where a capture is found. */
export const address = (file) => "/captures/" + file.split("/").map(encodeURIComponent).join("/");
/** Who was seen: "2 toads" cannot be made of names; "2 × Bufo bufo" can. */
export const named = (s) => s.name ? (s.count > 1 ? s.count + "\u00a0\u00d7\u00a0" : "") + s.name : "";

// ---- a sighting where there is little room

/** A still of a sighting; of one that runs, what the camera shows now. */
export function stillOf(s, width) {
  const source = s.stills > 0 ? "/api/thumbs/" + idWords(s.number) + (width ? "?width=" + width : "") : s.end ? "" : "/picture/" + encodeURIComponent(s.camera) + "?at=" + Math.floor(Date.now() / 4000);
  if (!source) return make("span", { class: "none" }, t("no-still"));
  const image = make("img", { alt: "", loading: "lazy", decoding: "async", src: source });
  image.addEventListener("error", () => image.replaceWith(make("span", { class: "none" }, t("no-still"))));
  return image;
}

export const lengthOf = (s) => s.end ? lasting(new Date(s.end) - new Date(s.start)) : t("running", { time: lasting(Date.now() - new Date(s.start)) });

/** What a sighting is called where there is little room. */
export function nameOf(s) {
  if (s.name) return make("span", { class: "name" }, named(s));
  return make("span", { class: "dim" }, s.mark === "nothing" ? t("mark.nothing") : s.end ? t("no-name") : "");
}
