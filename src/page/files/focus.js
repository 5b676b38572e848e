// Focusing: a magnifier, and a figure for how sharp it is there.
import { number, t } from "./common.js";

const MAGNIFIED = 160;  // pixels of the full picture, across

export function box(one) {
  const w = one.canvas.width, h = one.canvas.height, side = Math.min(MAGNIFIED, w, h);
  const x = Math.max(0, Math.min(w - side, one.at[0] * w - side / 2)), y = Math.max(0, Math.min(h - side, one.at[1] * h - side / 2));
  return { x, y, side, percent: [x / w, y / h, (x + side) / w, (y + side) / h].map((v) => (100 * v).toFixed(2)).join(",") };
}

export function drawGlass(one) {
  const b = box(one), pen = one.glass.getContext("2d");
  one.glass.width = one.glass.height = 2 * MAGNIFIED;
  pen.imageSmoothingEnabled = false;
  pen.drawImage(one.canvas, b.x, b.y, b.side, b.side, 0, 0, one.glass.width, one.glass.height);
}

export function setSharpness(one, figure) {
  if (figure < 0) return;
  one.best = Math.max(one.best, figure);
  one.sharp.textContent = number(figure, 2);
  one.bestSaid.textContent = t("best", { figure: number(one.best, 2) });
  one.gauge.value = one.best > 0 ? figure / one.best : 0;
}

export function aim(one, x, y) {
  one.at = [Math.max(0, Math.min(1, x)), Math.max(0, Math.min(1, y))];
  one.best = 0;
  if (one.canvas.width) drawGlass(one);
}

export function aimByKey(event, one) {
  const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  if (!one.focusing || !step) return;
  event.preventDefault();
  aim(one, one.at[0] + step[0] * 0.02, one.at[1] + step[1] * 0.02);
}
