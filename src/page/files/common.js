// What the views share: asking the station, making elements, wording.
export const $ = (id) => document.getElementById(id);
export const state = { me: null, cameras: [], fps: new Map(), kept: false };

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

export const button = (text, onclick, more) =>
  make("button", Object.assign({ type: "button", class: "btn btn-sm", onclick }, more), text);

/** Said to who listens as well; bad: something went wrong. */
let fading = 0;
export function notice(text, bad) {
  clearTimeout(fading);
  if (text && !bad) fading = setTimeout(() => { $("notice").textContent = ""; }, 10000);
  $("notice").textContent = text;
  $("notice").classList.toggle("bad", Boolean(bad));
}
export const complain = (e) => notice(e.message === "Failed to fetch" ? "The station does not answer." : e.message, true);

let onLogin = () => {};
export function whenLoggedOut(f) { onLogin = f; }

/** Ask the station; with a second argument, change something. */
export async function ask(path, change) {
  const options = change === undefined ? {} : {
    method: "POST", body: JSON.stringify(change),
    headers: { "Content-Type": "application/json", "X-Tawny-Change": state.me ? state.me.change : "" } };
  const answer = await fetch(path, options);
  const body = await answer.json().catch(() => ({}));
  state.kept = answer.headers.has("X-Tawny-Kept");  // what the station said before it could not be reached
  if (answer.status === 401 && path !== "/api/login") onLogin();
  if (!answer.ok) {
    const e = new Error(body.error || "The station did not answer.");
    e.problems = body.problems || [];
    throw e;
  }
  return body;
}

/** Ask in a dialog; resolves to whether it was agreed to. */
export function agree(title, body, yes) {
  return new Promise((resolve) => {
    const d = make("dialog", { "aria-labelledby": "dialog-title" });
    const end = (answer) => { d.close(); d.remove(); resolve(answer); };
    d.append(make("h2", { class: "h6", id: "dialog-title" }, title), body,
      make("div", { class: "bar" }, button(yes, () => end(true), { class: "btn btn-sm btn-act", id: "dialog-yes" }),
        button("Leave it", () => end(false), { id: "dialog-no" })));
    d.addEventListener("cancel", (event) => { event.preventDefault(); end(false); });
    document.body.append(d);
    d.showModal();
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
  if (draft.lines.length === 0) { notice("Nothing would change."); return null; }
  const shown = make("div", {}, lineList(draft.lines.slice(0, 200)));
  if (draft.lines.length > 200) shown.append(make("p", {}, "and " + (draft.lines.length - 200) + " more lines"));
  if (draft.restart) shown.append(make("p", { class: "small" }, "What concerns the station itself holds from its next start on."));
  if (!await agree("These lines change", shown, "Write them")) return null;
  const done = await ask(path, Object.assign({ write: true }, body));
  notice("Written. The file as it was is kept beside it, as .old." + (done.restart ? " Some of it holds from the next start on." : ""));
  return done;
}

/** 0.05, 1.4, 23 */
export function percent(x) {
  return x >= 10 ? x.toFixed(0) : x >= 1 ? x.toFixed(1) : x >= 0.1 ? x.toFixed(2) : String(Number(x.toFixed(3)));
}
export const along = (x) => Math.sqrt(Math.max(0, Math.min(x, 100)) / 100);  // small things are seen
export const clock = (t) => new Date(t).toLocaleTimeString([], { hour: "2-digit", minute: "2-digit", second: "2-digit", hour12: false });
export const size = (bytes) => bytes < 1e6 ? Math.ceil(bytes / 1e3) + " kB" : bytes < 1e9 ? (bytes / 1e6).toFixed(1) + " MB" : (bytes / 1e9).toFixed(1) + " GB";
export const count = (n, one, many) => n + " " + (n === 1 ? one : many || one + "s");
export const mayRun = () => state.me && state.me.may === "run";

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
export function fillCameras(select, all) {
  const before = select.value;
  select.replaceChildren(...(all ? [make("option", { value: "" }, "all")] : []),
    ...state.cameras.map((c) => make("option", { value: c.camera }, c.camera)));
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
