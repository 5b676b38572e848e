// Phones and browsers that are to be told, this one among them.
import { $, ask, button, complain, make, mayRun, notice } from "./common.js";

const able = () => "serviceWorker" in navigator && "PushManager" in window && "Notification" in window;

// "Chrome, Android"
function nameOf(agent) {
  const first = (list) => (list.find(([, pattern]) => pattern.test(agent)) || ["A browser"])[0];
  return first([["Firefox", /Firefox/], ["Edge", /Edg/], ["Chrome", /Chrome/], ["Safari", /Safari/]]) + ", " +
    first([["iPhone", /iPhone/], ["iPad", /iPad/], ["Android", /Android/], ["Windows", /Windows/], ["Mac", /Mac OS/], ["Linux", /Linux/]]).replace("A browser", "a computer");
}

const letters = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");

async function tellThis(key) {
  if (await Notification.requestPermission() !== "granted") throw new Error("This browser does not let the page tell you anything: its settings for this address say so.");
  const registration = await navigator.serviceWorker.ready;
  const old = await registration.pushManager.getSubscription();
  if (old) await old.unsubscribe();  // it may be of another key
  const s = await registration.pushManager.subscribe({ userVisibleOnly: true, applicationServerKey: key });
  await ask("/api/phones", { endpoint: s.endpoint, key: letters(s.getKey("p256dh")), secret: letters(s.getKey("auth")), name: nameOf(navigator.userAgent) });
  notice("This one is told from now on. \u201cSend a test\u201d above tries it.");
}

async function forget(number) {
  await ask("/api/phones", { forget: number });
  notice("It is told nothing any more.");
}

const doing = (work) => async () => { try { await work(); await showPhones(); } catch (e) { complain(e); } };

function whyNot(destinations) {
  if (!destinations.length) return "To be told on a phone, " + (mayRun() ? "write [destination phones] with url = push: into the settings, and name it in a camera's send_to." : "somebody who may run the station has to set up a destination for phones.");
  if (!window.isSecureContext) return "To be told on this one, open the page by https:, or on the station itself.";
  return able() ? "" : "This browser cannot be told anything. On an iPhone, add the page to the home screen first.";
}

// What keeps it from being shown is no matter of the rest of the view.
export const showPhones = () => list().catch((e) => { $("phones").replaceChildren(make("p", {}, e.message)); });

async function list() {
  const a = await ask("/api/phones"), why = whyNot(a.destinations);
  const rows = a.phones.map((f) => make("li", {}, make("strong", {}, f.name), (f.account ? " of " + f.account : "") + ", since " + new Date(f.since).toLocaleDateString() + " ",
    button("Forget", doing(() => forget(f.number)), { "aria-label": "Forget " + f.name + (f.account ? " of " + f.account : "") })));
  $("phones").replaceChildren(rows.length ? make("ul", { class: "plain" }, ...rows) : "",
    why ? make("p", {}, why) : button("Tell this phone", doing(() => tellThis(a.key)), { id: "tell-this" }));
}
