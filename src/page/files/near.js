// Cameras of the local network, as they tell of themselves.
import { $, ask, button, count, make } from "./common.js";

// User and password go into a source, as its one place for them.
function withLogin(url, user, password) {
  return user ? url.replace("://", () => "://" + encodeURIComponent(user) + ":" + encodeURIComponent(password) + "@") : url;
}

function use(camera, user, password) {
  $("new-name").value = camera.section;
  $("new-source").value = withLogin(camera.source, user, password);
  $("new-second").value = camera.detect_source ? withLogin(camera.detect_source, user, password) : "";
  $("near-said").textContent = camera.detect_source ? "With its smaller stream for the detector. Add it when the name is right." : "Add it when the name is right.";
  $("new-name").focus();
}

const wordStream = (s) => [s.codec || "a stream", s.width ? s.width + " \u00d7 " + s.height : "", s.fps ? s.fps + " fps" : ""].filter(Boolean).join(" ");

function login(camera, item) {
  const id = "near-" + camera.address.replace(/\./g, "-");
  const user = make("input", { id: id + "-user", class: "form-control form-control-sm", autocomplete: "off", autocapitalize: "none" });
  const password = make("input", { id: id + "-word", type: "password", class: "form-control form-control-sm", autocomplete: "off" });
  const form = make("form", { class: "bar fields" }, make("div", {}, make("label", { for: user.id, class: "form-label small m-0" }, "Its user"), user),
    make("div", {}, make("label", { for: password.id, class: "form-label small m-0" }, "Its password"), password),
    make("button", { type: "submit", class: "btn btn-sm", "aria-label": "Streams of " + camera.name }, "Its streams"));
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    look({ at: camera.address, user: user.value, password: password.value }, item);
  });
  return form;
}

function show(camera, item, user, password) {
  item.replaceChildren(make("div", {}, make("strong", {}, camera.name), " ", make("span", { class: "small" }, camera.address + ", by " + camera.by.join(" and "))));
  for (const s of camera.streams) item.append(make("div", { class: "small" }, wordStream(s)));
  if (camera.why) item.append(make("p", { class: "small" }, "It says no more: " + camera.why + "."));
  if (camera.source) item.append(button("Take these", () => use(camera, user, password), { "aria-label": "Take the streams of " + camera.name }));
  else if (camera.can_be_asked) item.append(login(camera, item));
}

/** @param item  Where one camera is shown, if one alone is asked. */
async function look(asked, item) {
  const all = $("near-look");
  all.disabled = true;
  $("near-said").textContent = "Asking, for three seconds\u2026";
  try {
    const a = await ask("/api/finds", asked);
    const others = a.dropped ? " " + count(a.dropped, "answer made", "answers made") + " no sense." : "";
    $("near-said").textContent = a.found.length ? count(a.found.length, "camera answers", "cameras answer") + "." + (item ? "" : others) :
      "No camera answered. It must be switched on, and in some its interface (ONVIF) must be.";
    if (item && a.found.length) show(a.found[0], item, asked.user, asked.password);
    else if (!item) $("near-list").replaceChildren(...a.found.map((c) => { const li = make("li", {}); show(c, li); return li; }));
  } catch (e) { $("near-said").textContent = e.message; }
  all.disabled = false;
}

export function begin() { $("near-look").addEventListener("click", () => look({})); }
