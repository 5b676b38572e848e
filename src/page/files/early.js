// What the first view waits for, asked while the rest of the page is still on its way.
const HOUR = 3600e3, DAY = 24 * HOUR, BACK = 7 * DAY;
export const MOST = 200;  // sightings that are asked for
const get = (path) => fetch(path).then((a) => a.ok ? a.json() : null).catch(() => null);

// ---- which time: the last night, or since somebody looked last

// Without a place there is no dusk: a night is from six to seven then.
function localNight(now) {
  const dusk = new Date(now);
  dusk.setHours(18, 0, 0, 0);
  if (dusk > now) dusk.setDate(dusk.getDate() - 1);
  const dawn = new Date(dusk);
  dawn.setDate(dawn.getDate() + 1);
  dawn.setHours(7);
  return [dusk.getTime(), dawn.getTime()];
}

/** Rounded to hours of the place, which are not always whole hours of UTC. */
export function atHour(time, up) {
  const d = new Date(time);
  if (up && (d.getMinutes() || d.getSeconds() || d.getMilliseconds())) d.setHours(d.getHours() + 1);
  d.setMinutes(0, 0, 0);
  return d.getTime();
}

/** @param nights  [[dusk, dawn]], may be none. @param since  When somebody looked last; 0: never. */
export function spanOf(nights, since) {
  const now = Date.now(), begun = nights.filter(([dusk]) => dusk - HOUR / 2 <= now), night = begun.length > 0 ? begun[begun.length - 1] : localNight(now);
  const first = atHour(night[0] - HOUR / 2, false), before = since > 0 && since < first && now - since < BACK;
  return { night, nights, whole: !before, from: before ? atHour(since, false) : first, until: Math.max(atHour(night[1] + HOUR / 2, true), atHour(now, true)) };
}

export const nightsPath = () => "/api/nights?from=" + (Date.now() - BACK - DAY) + "&until=" + (Date.now() + DAY);
export const sightingsPath = (span) => "/api/sightings?" + new URLSearchParams({ from: span.from, until: span.until, most: MOST });

// ---- what is under way, by its path; each is taken once

const under = new Map();
function begin(path) {
  under.set(path.split("?")[0], { path, answer: get(path) });
  return under.get(path.split("?")[0]).answer;
}

/** An answer that is under way; null: none is, or it failed, and it is to be asked for anew. */
export async function take(path, exactly) {
  const one = under.get(path.split("?")[0]);
  under.delete(path.split("?")[0]);
  return one && (!exactly || one.path === path) ? one.answer : null;
}

begin("/api/me");
begin("/api/status");
if (["", "#came"].includes(location.hash)) begin(nightsPath()).then((a) => begin(sightingsPath(spanOf(a ? a.nights : [], 0))));

// What a browser knows of dates it loads when it is first asked, and takes its time: now it has some.
new Intl.DateTimeFormat().format();
