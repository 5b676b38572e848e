// Cameras of the local network, as they tell of themselves.
import { $, ask, button, make, t } from "./common.js";

// User and password go into a source, as its one place for them.
function withLogin(url, user, password) {
  return user ? url.replace("://", () => "://" + encodeURIComponent(user) + ":" + encodeURIComponent(password) + "@") : url;
}

function use(camera, user, password) {
  $("new-name").value = camera.section;
  $("new-source").value = withLogin(camera.source, user, password);
  $("new-second").value = camera.detect_source ? withLogin(camera.detect_source, user, password) : "";
  $("near-said").textContent = camera.detect_source ? t("near.two") : t("near.one");
  $("new-name").focus();
}

const wordStream = (s) => [s.codec || t("near.stream"), s.width ? s.width + " \u00d7 " + s.height : "", s.fps ? t("n-fps", { n: s.fps }) : ""].filter(Boolean).join(" ");

function login(camera, item) {
  const id = "near-" + camera.address.replace(/\./g, "-");
  const user = make("input", { id: id + "-user", class: "form-control", autocomplete: "off", autocapitalize: "none" });
  const password = make("input", { id: id + "-word", type: "password", class: "form-control", autocomplete: "off" });
  const form = make("form", { class: "bar fields" }, make("div", {}, make("label", { for: user.id, class: "small" }, t("near.user")), user),
    make("div", {}, make("label", { for: password.id, class: "small" }, t("near.password")), password),
    make("button", { type: "submit", class: "btn", "aria-label": t("near.streams-of", { name: camera.name }) }, t("near.streams")));
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    look({ at: camera.address, user: user.value, password: password.value }, item);
  });
  return form;
}

function show(camera, item, user, password) {
  item.replaceChildren(make("div", {}, make("strong", {}, camera.name), " ", make("span", { class: "small" }, camera.address + ", " + camera.by.join(", "))));
  for (const s of camera.streams) item.append(make("div", { class: "small" }, wordStream(s)));
  if (camera.why) item.append(make("p", { class: "small" }, t("near.no-more", { why: camera.why })));
  if (camera.source) item.append(button(t("near.take"), () => use(camera, user, password), { "aria-label": t("near.take-of", { name: camera.name }) }));
  else if (camera.can_be_asked) item.append(login(camera, item));
}

/** @param item  Where one camera is shown, if one alone is asked. */
async function look(asked, item) {
  const all = $("near-look");
  all.disabled = true;
  $("near-said").textContent = t("near.asking");
  try {
    const a = await ask("/api/finds", asked);
    const others = a.dropped ? " " + t("near.nonsense", { n: a.dropped }) : "";
    $("near-said").textContent = a.found.length ? t("near.found", { n: a.found.length }) + (item ? "" : others) :
      t("near.none");
    if (item && a.found.length) show(a.found[0], item, asked.user, asked.password);
    else if (!item) $("near-list").replaceChildren(...a.found.map((c) => { const li = make("li", {}); show(c, li); return li; }));
  } catch (e) { $("near-said").textContent = e.message; }
  all.disabled = false;
}

export function begin() { $("near-look").addEventListener("click", () => look({})); }
