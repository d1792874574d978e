// What is drawn under and over the lines: bands, the target level, marks and the lines' own labels.
import { WORDS, rule } from "./kit.js";
import { faded, lookOf, token } from "./style.js";

const font = (size) => `${Math.round(size * devicePixelRatio)}px ${WORDS}`;

// `ctx` is the library's own canvas, or the writer of SVG.
export function drawBelow(ctx, u, spec) {
  const { bbox } = u;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  spec.bands.forEach((band, k) => {
    const left = u.valToPos(band.start, "x", true), right = u.valToPos(band.end, "x", true);
    ctx.fillStyle = band.is_marked ? token("mark-wash") : token(k % 2 ? "band-2" : "band-1");
    ctx.fillRect(left, bbox.top, right - left, bbox.height);
  });
  if (spec.level != null) {
    const y = u.valToPos(spec.level, "y", true);
    rule(ctx, bbox.left, y, bbox.left + bbox.width, y, { colour: "ink-2", width: devicePixelRatio, dash: [2 * devicePixelRatio, 3 * devicePixelRatio] });
  }
  ctx.restore();
}

export function drawAbove(ctx, u, spec, places) {
  const { bbox } = u;
  const taken = [];
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  for (const cursor of spec.cursors ?? []) drawCursor(u, ctx, bbox, cursor);
  for (const place of labelPlaces(u, spec, places)) label(ctx, bbox, taken, place);
  ctx.restore();
}

// A cursor that was set: a full line with its letter at the top.
function drawCursor(u, ctx, bbox, { x, label: letter }) {
  if (x < u.scales.x.min || x > u.scales.x.max) return;
  const at = u.valToPos(x, "x", true), size = 16 * devicePixelRatio;
  rule(ctx, at, bbox.top, at, bbox.top + bbox.height, { colour: "ink", width: 1.5 * devicePixelRatio });
  ctx.fillStyle = token("ink");
  ctx.fillRect(at - size / 2, bbox.top, size, size);
  ctx.fillStyle = token("paper");
  ctx.font = font(12);
  ctx.textAlign = "center";
  ctx.fillText(letter, at, bbox.top + size * 0.75);
}

// Every label with its wanted place in canvas pixels.
function labelPlaces(u, spec, places) {
  const { bbox } = u;
  const ratio = devicePixelRatio;
  const found = [];
  for (const mark of spec.marks) {
    if (mark.x < u.scales.x.min || mark.x > u.scales.x.max) continue;
    found.push({ text: mark.label, x: u.valToPos(mark.x, "x", true), y: u.valToPos(mark.y, "y", true) - 8 * ratio, align: "center", dot: true, colour: "ink", marked: mark.is_marked });
  }
  spec.lines.forEach((line, n) => {
    if (spec.lines.length < 2) return;
    const y = u.data[places[n].y];
    // near the right end, where the lines are usually apart
    const wanted = u.scales.x.min + (u.scales.x.max - u.scales.x.min) * (0.97 - 0.14 * n);
    let k = u.data[0].length - 1;
    while (k > 0 && (u.data[0][k] > wanted || y[k] == null)) k--;
    if (y[k] == null) return;
    found.push({ text: line.label, x: Math.min(u.valToPos(u.data[0][k], "x", true), bbox.left + bbox.width - 4 * ratio), y: u.valToPos(y[k], "y", true) - 6 * ratio, align: "right", colour: lookOf(line).colour, line: true });
  });
  for (const band of spec.bands) {
    if (!band.label) continue;
    const from = Math.max(band.start, u.scales.x.min), to = Math.min(band.end, u.scales.x.max);
    if (from >= to) continue;
    found.push({ text: band.label, x: (u.valToPos(from, "x", true) + u.valToPos(to, "x", true)) / 2, y: bbox.top + bbox.height - (band.is_marked ? 20 : 5) * ratio, align: "center", colour: "ink-2", width: u.valToPos(to, "x", true) - u.valToPos(from, "x", true), marked: band.is_marked });
  }
  return found;
}

function label(ctx, bbox, taken, place) {
  const ratio = devicePixelRatio;
  ctx.font = font(11.5);
  const width = ctx.measureText(place.text).width;
  if (place.width != null && width > place.width * 1.9 + 4 * ratio) return;
  const height = 14 * ratio;
  const left = place.align === "center" ? place.x - width / 2 : place.x - width;
  const box = { left: Math.max(bbox.left + 2, Math.min(left, bbox.left + bbox.width - width - 2)), top: place.y - height, width, height };
  // a label that would cover another one moves up until it is free
  for (let tries = 0; tries < 8 && taken.some((other) => overlap(other, box)); tries++) box.top -= height;
  box.top = Math.max(bbox.top + 1, box.top);
  if (taken.some((other) => overlap(other, box))) return;
  taken.push(box);
  if (place.dot) {
    ctx.fillStyle = token("ink");
    ctx.beginPath();
    ctx.arc(place.x, place.y + 8 * ratio, 2.5 * ratio, 0, 7);
    ctx.fill();
  }
  ctx.fillStyle = place.marked ? token("mark") : faded("sheet", 0.82);
  ctx.fillRect(box.left - 2 * ratio, box.top + 1.5 * ratio, width + 4 * ratio, height);
  ctx.fillStyle = place.marked ? token("mark-ink") : token(place.colour);
  ctx.textBaseline = "bottom";
  ctx.textAlign = "left";
  ctx.fillText(place.text, box.left, box.top + height);
}

const overlap = (a, b) => a.left < b.left + b.width && b.left < a.left + a.width && a.top < b.top + b.height && b.top < a.top + a.height;
