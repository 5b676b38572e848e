// A station on the simulated port, and a browser that looks at its page.
import { spawn, spawnSync } from "node:child_process";
import { mkdtempSync, mkdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { chromium } from "playwright-core";
import { wrongRequest } from "./api.mjs";

export const HERE = import.meta.dirname;
export const TOOL = process.env.TAWNY;
if (!TOOL) throw new Error("TAWNY names no program");

/** Comments, order and spelling of this file are the user's. */
export const SETTINGS = `# Hollin Lane toad crossing
[station]
name = hollin      # ours
store = captures
listen = 127.0.0.1:0
accounts_file = accounts
keep_free = 0

[cameras]
loop = yes
post_event = 3 s
dark_below = 5 %

# where they cross
[camera kerb]
source = sim:kerb,size=320x180
start_at=0.06 %    # after the storm
stay_at = 0.05 %
send_to = shed

[camera mere]
source = sim:mere,size=320x180,seed=3

[destination shed]
url = file://SHED
what = still, clip
`;

/** A port of this machine that nobody listens on. */
export const freePort = () => new Promise((resolve) => {
  const s = createServer().listen(0, "127.0.0.1", () => { const { port } = s.address(); s.close(() => resolve(port)); });
});

/** Until something is so; the machine may be slow. */
export async function until(what, check, seconds = 90) {
  const end = Date.now() + seconds * 1000;
  let last = null;
  while (Date.now() < end) {
    try { const got = await check(); if (got) return got; } catch (e) { last = e; }
    await new Promise((resolve) => setTimeout(resolve, 150));
  }
  throw new Error("it never came to this: " + what + (last ? " (" + last.message + ")" : ""));
}

/** Run "tawny watch" in a folder until it says where its page is.
 * @return url, said(): all that it has printed, ended: how it ended, once it has. */
export async function watchIn(folder, ...words) {
  const child = spawn(TOOL, ["watch", ...words], { cwd: folder, env: { ...process.env, XDG_RUNTIME_DIR: folder } });
  let said = "";
  const ended = new Promise((resolve) => child.once("exit", (code, signal) => resolve(signal || code)));
  child.stdout.on("data", (d) => { said += d; });
  child.stderr.on("data", (d) => { said += d; });
  const url = await until("it says where its page is", () => {
    if (child.exitCode !== null) throw new Error("it has ended: " + said);
    return (said.match(/http:\/\/127\.0\.0\.1:\d+\//) || [null])[0];
  }, 60);
  return { child, url, ended, said: () => said };
}

/** An account, before its station is started. */
export function addAccount(folder, name, may, password, cameras) {
  const made = spawnSync(TOOL, ["account", "add", name, "--may", may, ...cameras ? ["--cameras", cameras] : []], { cwd: folder, env: { ...process.env, XDG_RUNTIME_DIR: folder }, input: password });
  if (made.status !== 0) throw new Error("no account: " + made.stderr);
}

/** Start a station. accounts: [[name, may, password, cameras]]. */
export async function startStation(accounts = []) {
  const folder = mkdtempSync(join(tmpdir(), "tawny-page-"));
  const file = join(folder, "station.ini");
  mkdirSync(join(folder, "shed"));
  writeFileSync(file, SETTINGS.replace("SHED", join(folder, "shed")));
  for (const one of accounts) addAccount(folder, ...one);
  const { child, url, ended, said } = await watchIn(folder);
  return { folder, file, url, settings: () => readFileSync(file, "utf8"),
    async stop() {
      child.kill("SIGTERM");
      const code = await ended;
      rmSync(folder, { recursive: true, force: true });
      if (code !== 0) throw new Error("the station ended with " + code + ": " + said().slice(-4000));
    } };
}

/** A browser that connects to nobody but the station. */
export const openBrowser = () => chromium.launch({ executablePath: process.env.CHROMIUM || "/usr/bin/chromium",
  args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required"] });

// What a page asks: of its station alone, and as it is described.
function checkRequest(page, url, r) {
  if (/^(data|blob|about):/.test(r.url())) return;
  if (!r.url().startsWith(url)) page.wrong.push("asks elsewhere: " + r.url());
  else if (r.method() === "POST" || /\/api\//.test(r.url())) {
    const wrong = wrongRequest(r.method(), r.url(), r.headers(), r.postData());
    if (wrong) page.wrong.push(wrong);
  }
}

/** A page whose errors and wrong requests are noted in page.wrong. Without a worker beside it, which would
 * ask in its place what tests want to see and to hold up; options may allow it. */
export async function openPage(browser, url, options = {}) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, serviceWorkers: "block", ...options });
  const page = await context.newPage();
  page.wrong = [];
  page.on("pageerror", (e) => page.wrong.push("error: " + e.message));
  page.on("console", (m) => { if (/Content Security Policy|Refused/.test(m.text())) page.wrong.push(m.text()); });
  page.on("request", (r) => checkRequest(page, url, r));
  await page.goto(url, { waitUntil: "domcontentloaded" });
  return page;
}

/** Go to a view, by its tab; limits and zones are ways to set it right. */
export async function goTo(page, view) {
  const way = ["limits", "zones", "misses", "often"].includes(view);
  await page.click("#tab-" + (way ? "right" : view));
  if (way) await page.click("#way-" + view);
  await page.waitForSelector((way ? "#way-" + view + "[aria-current]" : "#view-" + view + ":not([hidden])"));
}
