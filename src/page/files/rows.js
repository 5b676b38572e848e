// A list of thousands: a row has its content while it is near what is looked at, and is as high without.
import { make } from "./common.js";

const REST_MS = 120;
const makers = new WeakMap();  // what makes the content of a row

/** @param content  Makes the children of the row, whenever it comes near. @param picture  Puts its picture in, a little later. */
export function rowOf(attributes, content, picture) {
  const e = make("li", attributes);
  makers.set(e, { content, picture });
  return e;
}

/** Now, wherever the row is. */
export function fill(e) { if (!e.firstChild) e.append(...makers.get(e).content()); }

// Rows are equally high: which are near follows from how far the list is scrolled, in itself or with the page.
function near(list) {
  const height = list.firstElementChild ? list.firstElementChild.offsetHeight : 0;
  if (height === 0) return null;
  const seen = Math.min(innerHeight, list.clientHeight), top = list.scrollTop + Math.max(0, -list.getBoundingClientRect().top);
  return [Math.max(0, Math.floor((top - seen) / height)), Math.min(list.children.length, Math.ceil((top + 2 * seen) / height))];
}

/** Watch a list of such rows. @return what is to be called after rows came or went. */
export function watchRows(list) {
  let full = new Set(), pictured = new WeakSet(), timer = 0, was = 0;
  const show = () => {
    timer = 0;
    for (const e of full) if (!pictured.has(e)) { pictured.add(e); makers.get(e).picture(e); }
  };
  const empty = (e) => { pictured.delete(e); e.replaceChildren(); };
  const renew = () => {
    const span = near(list);
    if (!span) return;
    const wanted = new Set();
    for (let i = span[0]; i < span[1]; i++) wanted.add(list.children[i]);
    for (const e of full) if (!wanted.has(e)) { if (e.contains(document.activeElement)) wanted.add(e); else empty(e); }
    for (const e of wanted) fill(e);
    full = wanted;
  };
  // What flies past needs no pictures: they come once less than a screen goes by in a moment.
  const look = () => {
    const at = list.getBoundingClientRect().top - list.scrollTop, far = Math.abs(at - was) > innerHeight / 2;
    was = at;
    if (far) timer = setTimeout(look, REST_MS);
    else show();
  };
  const moved = () => { renew(); if (!timer) timer = setTimeout(look, REST_MS); };
  list.addEventListener("scroll", moved, { passive: true });
  addEventListener("scroll", moved, { passive: true });
  addEventListener("resize", moved);
  return () => { renew(); show(); };
}
