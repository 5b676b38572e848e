// How a camera is, in words and signs: its state, why, until when, by whom.
import { icon, lasting, make, t, when } from "./common.js";

const SIGNS = { armed: ["armed", "armed"], sighting: ["sighting", "sight"], resting: ["off", "off"], settling: ["off", "off"], starting: ["off", "off"],
  disarmed: ["off", "off"], lost: ["lost", "bad"], closed: ["lost", "bad"], down: ["lost", "bad"] };
const REASONS = { "armed by order": "reason.order", "disarmed by its settings": "reason.settings", "disarmed by order": "reason.order", "disarmed by its hours": "reason.hours", "disarmed by arm_delay": "reason.delay" };

export const isDisarmed = (c) => c.state === "disarmed";
export const isByOrder = (c) => /by order$/.test(c.arming || "");

/** "Sighting, 14 s" */
export function stateShort(c) {
  if (c.state === "sighting" && c.last) return t("state.sighting-for", { time: lasting(Date.now() - new Date(c.last)) });
  return t("state." + c.state);
}

/** "until 21:40, by ann"; "" where there is nothing to say. */
export function stateReason(c) {
  if (c.state === "lost") return c.lost ? t("since", { when: when(c.lost) }) : "";
  if (c.state === "closed" || c.state === "starting") return "";
  const until = c.arming_until ? t("until", { when: when(c.arming_until) }) : "";
  const reason = isByOrder(c) && c.ordered_by ? t("by", { name: c.ordered_by }) : REASONS[c.arming] ? t(REASONS[c.arming]) : "";
  return [until, reason].filter(Boolean).join(", ");
}

/** Sign, word and colour. */
export function stateSign(c) {
  const [sign, kind] = SIGNS[c.state] || SIGNS.starting;
  return make("span", { class: "state st " + kind, "data-state": c.state }, icon(sign), make("span", {}, stateShort(c)));
}

/** Set it anew only where it differs: who listens is not told each second. */
export function setState(box, c) {
  const words = c.state + stateShort(c);
  if (box.dataset.words === words) return;
  box.dataset.words = words;
  box.replaceChildren(stateSign(c));
}

const DISARMS = [[1, "for-1h"], [2, "for-2h"], [8, "for-8h"], [24, "for-day"], [0, "until-armed"]];
/** For how long somebody may disarm, as a menu has it. @param give  Takes {for_s}, or {}: until it is armed. */
export const disarmWays = (give) => DISARMS.map(([h, key]) => [t(key), () => give(h ? { for_s: 3600 * h } : {})]);
