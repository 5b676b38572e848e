// What runs beside the page: it shows messages while the page is closed, and what there was last
// while the station cannot be reached.
const SHELL = ["/", "/page.css", "/bootstrap.css", "/icon.svg", "/amiss.js", "/came.js", "/common.js", "/controls.js", "/days.js", "/early.js", "/focus.js", "/form.js", "/limits.js", "/live.js", "/missed.js", "/near.js", "/overlay.js", "/page.js", "/phones.js", "/right.js", "/rows.js", "/several.js", "/sighting.js", "/states.js", "/station.js", "/stations.js", "/strips.js", "/texts.js", "/ways.js", "/words.js", "/zones.js"];
const ANSWERS = /^\/api\/(me|status|sightings|nights)$/, ANSWERS_MOST = 30, KEEP_EVERY_MS = 60000;
const kept = new Map();  // when each answer was kept last

self.addEventListener("install", (event) => event.waitUntil(
  caches.open("shell").then((c) => c.addAll(SHELL)).then(() => self.skipWaiting())));

async function keep(name, key, answer) {
  const cache = await caches.open(name), last = kept.get(key) || 0;
  if (name === "answers" && Date.now() - last < KEEP_EVERY_MS) return;
  kept.set(key, Date.now());
  await cache.put(key, answer);
  const all = name === "answers" ? await cache.keys() : [];
  for (const old of all.slice(0, Math.max(0, all.length - ANSWERS_MOST))) await cache.delete(old);
}

// From the station; without it what it last gave, marked as such.
async function answer(request, name, key) {
  try {
    const fresh = await fetch(request);
    if (fresh.ok) await keep(name, key, fresh.clone()).catch(() => {});
    return fresh;
  } catch (e) {
    const old = await (await caches.open(name)).match(key);
    if (!old) throw e;
    const headers = new Headers(old.headers);
    headers.set("X-Tawny-Kept", "1");
    return new Response(old.body, { status: old.status, headers });
  }
}

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || url.origin !== self.location.origin) return;
  if (SHELL.includes(url.pathname)) event.respondWith(answer(event.request, "shell", url.pathname));
  else if (ANSWERS.test(url.pathname)) event.respondWith(answer(event.request, "answers", url.pathname + url.search));
});

// A picture that only who is logged in may see: fetched here, where the cookie goes along.
async function pictureOf(address) {
  if (!address) return undefined;
  const got = await fetch(address).catch(() => null);
  if (!got || !got.ok) return undefined;
  const reader = new FileReader(), blob = await got.blob();
  return new Promise((resolve) => { reader.onload = () => resolve(reader.result); reader.onerror = () => resolve(undefined); reader.readAsDataURL(blob); });
}

async function tell(m) {
  const before = m.missed ? "\n" + m.missed + " before did not arrive." : "";
  await self.registration.showNotification(m.title, { body: m.body + before, tag: m.tag, icon: "/icon-192.png", image: await pictureOf(m.picture), timestamp: m.time, data: { url: m.url } });
}
self.addEventListener("push", (event) => event.waitUntil(tell(event.data.json())));

// A browser that renews its subscription says so here, and the station is told: the old one is
// forgotten when its service does not know it any more.
const letters = (buffer) => btoa(String.fromCharCode(...new Uint8Array(buffer))).replace(/\+/g, "-").replace(/\//g, "_").replace(/=+$/, "");

async function renew(event) {
  const options = event.oldSubscription && event.oldSubscription.options;
  const s = event.newSubscription || (options && await self.registration.pushManager.subscribe(options));
  if (!s) return;
  const me = await (await fetch("/api/me")).json();
  await fetch("/api/phones", { method: "POST", headers: { "Content-Type": "application/json", "X-Tawny-Change": me.change },
    body: JSON.stringify({ endpoint: s.endpoint, key: letters(s.getKey("p256dh")), secret: letters(s.getKey("auth")), name: "A browser, renewed" }) });
}
self.addEventListener("pushsubscriptionchange", (event) => event.waitUntil(renew(event)));

async function open(address) {
  const all = await self.clients.matchAll({ type: "window", includeUncontrolled: true });
  for (const c of all) {
    const at = new URL(address, self.location.origin);
    await c.focus().catch(() => {});
    c.postMessage({ go: at.hash });
    return;
  }
  await self.clients.openWindow(address);
}
self.addEventListener("notificationclick", (event) => {
  event.notification.close();
  event.waitUntil(open(event.notification.data.url));
});
