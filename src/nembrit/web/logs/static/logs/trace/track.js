// The path on a local east–north grid, coloured by a channel; its dot follows the cursor of the traces.
import { NUMBERS, addTools, rule, savePng, saveSvg, words } from "../../common/charts/kit.js";
import { text, token } from "../../common/charts/style.js";

// one perceptually even scale from dark to light, readable on paper and at night (own mixture in OKLab)
const SCALE = (share) => `oklch(${(0.38 + 0.42 * share).toFixed(3)} 0.13 ${(265 - 175 * share).toFixed(1)})`;
const KINDS = ["#0072b2", "#b0568c", "#00805f", "#8f5200", "#515c66", "#56b4e9"];
const MARGIN = 48;

export class TrackView {
  constructor(box, src) {
    Object.assign(this, { box, src, canvas: box.querySelector("canvas"), note: box.querySelector(".reason"), legend: box.querySelector(".legend"), at: null });
    document.addEventListener("nembrit:theme", () => this.draw());
    new ResizeObserver(() => this.draw()).observe(this.canvas);
    const saved = (how) => () => { const to = this.scale(); how("track", to); };
    addTools(box, "path flown", [
      ["SVG", saved((stem, to) => saveSvg(stem, "Path flown", to.width, to.height, (pen) => this.picture(pen, to)))],
      ["PNG", saved((stem, to) => savePng(stem, to.width, to.height, (pen) => this.picture(pen, to)))],
    ]);
  }

  async load(colour) {
    const answer = await fetch(colour ? `${this.src}?colour=${colour}` : this.src).catch(() => null);
    this.note.textContent = answer?.ok ? "" : answer ? await answer.text() : "Nembrit does not respond.";
    if (!answer?.ok) return;
    this.data = await answer.json();
    const { length_m, farthest_m, rises_m } = this.data;
    this.box.querySelector(".facts-line").textContent = `${text(length_m, "m")} flown, ${text(farthest_m, "m")} from home at most${rises_m == null ? "" : `, ${text(rises_m, "m")} between lowest and highest`}`;
    this.draw();
    this.box.dataset.drawn = "1";
  }

  cursor(t) { this.at = t; if (!this.waiting) { this.waiting = true; requestAnimationFrame(() => { this.waiting = false; this.draw(); }); } }

  scale() {
    const { east, north } = this.data;
    const known = (values) => values.filter((value) => value != null);
    const xs = [...known(east), 0], ys = [...known(north), 0];
    const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
    const width = this.canvas.clientWidth, height = this.canvas.clientHeight;
    const perMetre = Math.min((width - 2 * MARGIN) / Math.max(x1 - x0, 10), (height - 2 * MARGIN) / Math.max(y1 - y0, 10));
    const cx = (x0 + x1) / 2, cy = (y0 + y1) / 2;
    return { perMetre, x: (east) => width / 2 + (east - cx) * perMetre, y: (north) => height / 2 - (north - cy) * perMetre, width, height, cx, cy };
  }

  draw() {
    if (!this.data || !this.canvas.clientWidth) return;
    const ratio = devicePixelRatio, to = this.scale(), ctx = this.canvas.getContext("2d");
    this.canvas.width = to.width * ratio;
    this.canvas.height = to.height * ratio;
    ctx.scale(ratio, ratio);
    this.picture(ctx, to);
  }

  picture(ctx, to) {
    this.grid(ctx, to);
    this.path(ctx, to);
    this.place(ctx, to, 0, 0, "home");
    if (this.at == null) return;
    let k = this.data.t.findIndex((t) => t != null && t >= this.at);
    if (k < 0) k = this.data.t.length - 1;
    if (this.data.east[k] != null) this.place(ctx, to, this.data.east[k], this.data.north[k], "");
  }

  grid(ctx, to) {
    const wanted = 70 / to.perMetre, step = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10000].find((size) => size >= wanted) ?? 20000;
    const number = { family: NUMBERS };
    const lines = (centre, span, draw) => { for (let v = Math.ceil((centre - span) / step) * step; v <= centre + span; v += step) draw(v); };
    lines(to.cx, to.width / 2 / to.perMetre, (v) => { rule(ctx, to.x(v), 0, to.x(v), to.height); if (to.x(v) < to.width - 80) words(ctx, `${v}`, to.x(v) + 3, to.height - 5, number); });
    lines(to.cy, to.height / 2 / to.perMetre, (v) => { rule(ctx, 0, to.y(v), to.width, to.y(v)); if (to.y(v) > 30) words(ctx, `${v}`, 3, to.y(v) - 3, number); });
    words(ctx, "m east", to.width - 50, to.height - 5);
    words(ctx, "m north", 3, 12);
    const badge = this.box.closest("[data-badge]")?.dataset.badge;
    if (badge) words(ctx, badge, to.width - 4, 12, { align: "right" });
  }

  path(ctx, to) {
    const { east, north, value, labels, name, unit, segment } = this.data;
    const known = (value ?? []).filter((one) => one != null);
    const low = Math.min(...known), high = Math.max(...known);
    const colour = (k) => {
      if (!value || value[k] == null) return token("ink");
      if (labels) return KINDS[Math.round(value[k]) % KINDS.length];
      return SCALE(high > low ? (value[k] - low) / (high - low) : 0.5);
    };
    ctx.lineWidth = 2.5;
    ctx.lineCap = "round";
    for (let k = 1; k < east.length; k++) {
      if (east[k] == null || east[k - 1] == null || (segment && segment[k] !== segment[k - 1])) continue;
      ctx.strokeStyle = colour(k);
      ctx.beginPath();
      ctx.moveTo(to.x(east[k - 1]), to.y(north[k - 1]));
      ctx.lineTo(to.x(east[k]), to.y(north[k]));
      ctx.stroke();
    }
    this.describe(name, unit, labels, value, low, high);
  }

  describe(name, unit, labels, value, low, high) {
    this.legend.replaceChildren();
    if (!value) return;
    const add = (colour, label) => {
      const chip = document.createElement("span");
      const dot = document.createElement("i");
      dot.style.background = colour;
      chip.append(dot, label);
      this.legend.append(chip);
    };
    if (labels) [...new Set(value.filter((one) => one != null))].forEach((code) => add(KINDS[code % KINDS.length], labels[code] || "(none)"));
    else for (const share of [0, 0.5, 1]) add(SCALE(share), `${name.replaceAll("_", " ")} ${text(low + share * (high - low), unit)}`);
  }

  place(ctx, to, east, north, label) {
    ctx.fillStyle = label ? token("sheet") : token("ink");
    ctx.strokeStyle = token("ink");
    ctx.lineWidth = 2;
    ctx.beginPath();
    if (label) ctx.rect(to.x(east) - 5, to.y(north) - 5, 10, 10);
    else ctx.arc(to.x(east), to.y(north), 6, 0, 7);
    ctx.fill();
    ctx.stroke();
    if (label) words(ctx, label, Math.min(to.x(east) + 9, to.width - 38), to.y(north) - 9, { colour: "ink", size: 13 });
  }
}
