// Phones and browsers that are to be told, this one among them.
import { $, ask, button, complain, dayShort, make, mayRun, notice, t } from "./common.js";

const able = () => "serviceWorker" in navigator && "PushManager" in window && "Notification" in window;

// "Chrome, Android"
function nameOf(agent) {
  const first = (list) => (list.find(([, pattern]) => pattern.test(agent)) || [""])[0];
  return (first([["Firefox", /Firefox/], ["Edge", /Edg/], ["Chrome", /Chrome/], ["Safari", /Safari/]]) || t("a-browser")) + ", " +
    (first([["iPhone", /iPhone/], ["iPad", /iPad/], ["Android", /Android/], ["Windows", /Windows/], ["Mac", /Mac OS/], ["Linux", /Linux/]]) || t("a-computer"));
}

const letters = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");

async function tellThis(key) {
  if (await Notification.requestPermission() !== "granted") throw new Error(t("phone.denied"));
  const registration = await navigator.serviceWorker.ready;
  const old = await registration.pushManager.getSubscription();
  if (old) await old.unsubscribe();  // it may be of another key
  const s = await registration.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key });
  await ask("/api/phones", { endpoint: s.endpoint, key: letters(s.getKey("p256dh")), secret: letters(s.getKey("auth")), name: nameOf(navigator.userAgent) });
  notice(t("phone.told"));
}

async function forget(number) {
  await ask("/api/phones", { forget: number });
  notice(t("phone.forgotten"));
}

const doing = (work) => async () => { try { await work(); await showPhones(); } catch (e) { complain(e); } };

function whyNot(destinations) {
  if (!destinations.length) return t(mayRun() ? "phone.set-up" : "phone.ask");
  if (!window.isSecureContext) return t("phone.https");
  return able() ? "" : t("phone.cannot");
}

// What keeps it from being shown is no matter of the rest of the view.
export const showPhones = () => list().catch((e) => { $("phones").replaceChildren(make("p", {}, e.message)); });

async function list() {
  const a = await ask("/api/phones"), why = whyNot(a.destinations);
  const rows = a.phones.map((f) => make("li", {}, make("b", {}, f.name), (f.account ? " (" + f.account + ")" : "") + ", " + t("since", { when: dayShort(f.since) }) + " ",
    button(t("phone.forget"), doing(() => forget(f.number)), { class: "btn bare small", "aria-label": t("phone.forget-of", { name: f.name }) })));
  $("phones").replaceChildren(rows.length ? make("ul", { class: "plain" }, ...rows) : "",
    why ? make("p", {}, why) : button(t("phone.tell"), doing(() => tellThis(a.key)), { id: "tell-this" }));
}
