// Settings that were sent to stations, and what each has answered.
import { $, ask, make, t, table, when } from "./common.js";

const view = { timer: 0, drawn: "" };

const sectionOf = (c) => "[" + [c.head, c.name].filter(Boolean).join(" ") + "]";
const changeOf = (c) => make("div", {}, make("code", {}, sectionOf(c) + " " + (c.key || "")), " ", c.value === null || c.value === undefined ? t("taken-out") : c.value);

function rowOf(w) {
  const state = make("span", { class: "st " + (w.state === "refused" ? "bad" : w.state === "waits" ? "off" : "well") }, make("span", {}, t("word." + w.state)));
  const said = w.state === "waits" ? t(w.told ? "word-told" : "word-not-told") : w.text;
  return [w.station, make("div", {}, ...(w.changes || []).slice(0, 20).map(changeOf)), [state, make("div", { class: "small dim" }, said)], [when(w.made), w.who ? make("div", { class: "small dim" }, w.who) : ""]];
}

async function show() {
  const a = await ask("/api/words"), words = JSON.stringify(a);
  $("form-words-part").hidden = a.words.length === 0;
  if (words === view.drawn) return false;
  view.drawn = words;
  $("form-words").replaceChildren(table([t("view.station"), t("change"), t("answer"), t("sent-at")], a.words.map(rowOf), t("answers")));
  return true;
}

/** Show them, and again while they are looked at. @param changed  Called when an answer has come. */
export async function begin(changed) {
  end();
  view.drawn = "";
  await show();
  view.timer = setInterval(() => { if (!document.hidden) show().then((other) => { if (other) changed(); }).catch(() => {}); }, 2000);
}
export function end() { clearInterval(view.timer); }
export const again = () => show();
