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
  if (spec.badge) badge(ctx, bbox, taken, spec.badge);
  const curves = coursesOf(u, spec, places);
  for (const place of labelPlaces(u, spec, places)) label(ctx, bbox, taken, place, curves);
  ctx.restore();
}

// What must stay with a picture wherever it goes, such as that nobody flew it.
function badge(ctx, bbox, taken, words) {
  const ratio = devicePixelRatio;
  ctx.font = font(11.5);
  const width = ctx.measureText(words).width + 8 * ratio, height = 16 * ratio;
  const box = { left: bbox.left + bbox.width - width - 2, top: bbox.top + 2, width, height };
  taken.push(box);
  ctx.strokeStyle = token("ink-2");
  ctx.lineWidth = ratio;
  ctx.setLineDash([]);
  ctx.fillStyle = faded("sheet", 0.9);
  ctx.fillRect(box.left, box.top, width, height);
  ctx.strokeRect(box.left, box.top, width, height);
  ctx.fillStyle = token("ink-2");
  ctx.textBaseline = "bottom";
  ctx.textAlign = "left";
  ctx.fillText(words, box.left + 4 * ratio, box.top + height - ratio);
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
  if (spec.lines.length > 1 && !spec.is_small) spec.lines.forEach((line, n) => found.push(...besideLine(u, line, n, places)));
  for (const band of spec.bands) {
    if (!band.label) continue;
    const from = Math.max(band.start, u.scales.x.min), to = Math.min(band.end, u.scales.x.max);
    if (from >= to) continue;
    const x = (u.valToPos(from, "x", true) + u.valToPos(to, "x", true)) / 2, width = u.valToPos(to, "x", true) - u.valToPos(from, "x", true);
    const foot = bbox.top + bbox.height - (band.is_marked ? 20 : 5) * devicePixelRatio, head = bbox.top + (band.is_marked ? 32 : 17) * devicePixelRatio;
    found.push({ text: band.label, candidates: [{ x, y: foot }, { x, y: head }], align: "center", colour: "ink-2", width, marked: band.is_marked });
  }
  return found;
}

// Where a line's own label may stand: above or below it, from its right end to its left.
function besideLine(u, line, n, places) {
  const y = u.data[places[n].y], { min, max } = u.scales.x, ratio = devicePixelRatio, candidates = [];
  for (let share = 0.97 - 0.1 * n; share > 0.1; share -= 0.05) {
    let k = u.data[0].length - 1;
    while (k > 0 && (u.data[0][k] > min + (max - min) * share || y[k] == null)) k--;
    if (y[k] == null) continue;
    const at = { x: u.valToPos(u.data[0][k], "x", true), y: u.valToPos(y[k], "y", true) };
    candidates.push({ ...at, y: at.y - 5 * ratio }, { ...at, y: at.y + 19 * ratio });
  }
  return candidates.length ? [{ text: line.label, candidates, align: "right", colour: lookOf(line).colour }] : [];
}

// The lines' courses in pixels, for keeping labels off them.
function coursesOf(u, spec, places) {
  const xs = u.data[0].map((x) => u.valToPos(x, "x", true));
  return { xs, rows: spec.lines.flatMap((_, n) => [places[n].y, places[n].low, places[n].high].filter((at) => at != null).map((at) => u.data[at].map((y) => (y == null ? null : u.valToPos(y, "y", true))))) };
}

// how many curves run through a box
function crossings({ xs, rows }, box) {
  const inside = xs.map((_, k) => k).filter((k) => xs[k] >= box.left - 3 && xs[k] <= box.left + box.width + 3);
  if (!inside.length) return 0;
  const near = [Math.max(0, inside[0] - 1), ...inside, Math.min(xs.length - 1, inside.at(-1) + 1)];
  return rows.filter((ys) => {
    const here = near.map((k) => ys[k]).filter((y) => y != null);
    return here.length && Math.min(...here) <= box.top + box.height && Math.max(...here) >= box.top;
  }).length;
}

function label(ctx, bbox, taken, place, curves) {
  const ratio = devicePixelRatio;
  ctx.font = font(11.5);
  const width = ctx.measureText(place.text).width;
  if (place.width != null && width > place.width * 1.9 + 4 * ratio) return;
  const height = 14 * ratio;
  const boxAt = ({ x, y }) => ({ left: Math.max(bbox.left + 2, Math.min(place.align === "center" ? x - width / 2 : x - width, bbox.left + bbox.width - width - 2)), top: y - height, width, height });
  const isFree = (one) => !taken.some((other) => overlap(other, one)) && one.top > bbox.top && one.top + height < bbox.top + bbox.height;
  let box = boxAt(place);
  if (place.candidates) {
    // its own line first; where every place is crossed, the one that covers least
    const free = place.candidates.map(boxAt).filter(isFree).map((one) => ({ one, crossed: crossings(curves, one) }));
    box = (free.find(({ crossed }) => crossed === 0) ?? free.sort((a, b) => a.crossed - b.crossed)[0])?.one;
    if (!box) return;
  } else {
    // a label that would cover another one moves up until it is free
    for (let tries = 0; tries < 8 && taken.some((other) => overlap(other, box)); tries++) box.top -= height;
    box.top = Math.max(bbox.top + 1, box.top);
    if (taken.some((other) => overlap(other, box))) return;
  }
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
