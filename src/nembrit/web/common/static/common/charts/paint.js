// A line picture drawn with any pen, as the plotting library draws it on its own canvas: axes, bands, areas, lines, labels.
import { NUMBERS, WORDS, rule, words } from "./kit.js";
import { drawAbove, drawBelow } from "./layers.js";
import { faded, lookOf, meant, tick, token } from "./style.js";

export const axisLabel = (axis) => (axis.unit === "1" ? axis.label : `${axis.label}, ${axis.unit}`);

// `u` is the library's picture: its scales, columns and box, in pixels of its canvas.
export function paintLines(ctx, u, spec, places) {
  drawBelow(ctx, u, spec);
  axes(ctx, u, spec);
  ctx.save();
  ctx.beginPath();
  ctx.rect(u.bbox.left, u.bbox.top, u.bbox.width, u.bbox.height);
  ctx.clip();
  const visible = u.data[0].map((_, k) => k).filter((k) => u.data[0][k] >= u.scales.x.min && u.data[0][k] <= u.scales.x.max);
  spec.lines.forEach((line, n) => lineOf(ctx, u, line, places[n], visible));
  ctx.restore();
  drawAbove(ctx, u, spec, places);
}

function axes(ctx, u, spec) {
  const { left, top, width, height } = u.bbox, ratio = devicePixelRatio;
  const inside = (axis, values) => (values ?? []).filter((value) => value != null && value >= u.scales[axis].min && value <= u.scales[axis].max);
  const number = { size: 12 * ratio, family: NUMBERS }, name = { size: 12 * ratio, family: WORDS, align: "center" };
  for (const value of inside("x", u.axes[0]._splits)) words(ctx, tick(meant(spec.x, value)), u.valToPos(value, "x", true), top + height + 16 * ratio, { ...number, align: "center" });
  for (const value of inside("y", u.axes[1]._splits)) {
    const at = u.valToPos(value, "y", true);
    rule(ctx, left, at, left + width, at);
    words(ctx, tick(meant(spec.y, value)), left - 6 * ratio, at + 4 * ratio, { ...number, align: "right" });
  }
  words(ctx, axisLabel(spec.x), left + width / 2, (u.height - 4) * ratio, name);
  ctx.save();
  ctx.translate(12 * ratio, top + height / 2);
  ctx.rotate(-Math.PI / 2);
  words(ctx, axisLabel(spec.y), 0, 0, name);
  ctx.restore();
}

function lineOf(ctx, u, line, place, visible) {
  const look = lookOf(line), { left, top, width, height } = u.bbox, ratio = devicePixelRatio;
  const pointsOf = (column) => visible.filter((k) => u.data[column][k] != null && !Number.isNaN(u.data[column][k])).map((k) => [u.valToPos(u.data[0][k], "x", true), u.valToPos(u.data[column][k], "y", true)]);
  const along = (points) => { ctx.beginPath(); points.forEach(([x, y], k) => (k ? ctx.lineTo(x, y) : ctx.moveTo(x, y))); };
  const area = (points, alpha) => { along(points); ctx.closePath(); ctx.fillStyle = faded(look.colour, alpha); ctx.fill(); };
  const points = pointsOf(place.y);
  if (place.low != null) area([...pointsOf(place.high), ...pointsOf(place.low).reverse()], look.alpha ?? 0.2);
  if (look.fillDown) area([[left, top + height], ...points, [left + width, top + height]], look.alpha);
  ctx.strokeStyle = token(look.colour);
  ctx.lineWidth = look.width * ratio;
  ctx.setLineDash((look.dash ?? []).map((part) => part * ratio));
  along(points);
  ctx.stroke();
}
