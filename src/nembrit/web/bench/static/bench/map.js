// The noise map: density as ink on paper by frequency and throttle, motor speed or time, lines named in it.
import { addTools, csvOf, onContent, readoutOf, rule, save, savePng, saveSvg, toggleTable, words } from "../common/charts/kit.js";
import { faded, text, token } from "../common/charts/style.js";

const LEFT = 46, BOTTOM = 30, TOP = 22, RIGHT = 58, OWN_MOTION_HZ = 15;
const ROW = 5, BREAK = 4, LONG_BREAK = 3; // units of height: a row, and a break in the place of so many rows that were hardly flown

class NoiseMap {
  constructor(figure) {
    this.figure = figure;
    this.canvas = figure.querySelector("canvas");
    this.readout = readoutOf(figure);
    this.canvas.tabIndex = 0;
    this.canvas.addEventListener("pointermove", (event) => this.point(event));
    this.canvas.addEventListener("pointerdown", (event) => this.point(event));
    this.canvas.addEventListener("keydown", (event) => this.key(event));
    new ResizeObserver(() => this.draw()).observe(this.canvas);
    document.addEventListener("nembrit:theme", () => this.draw());
  }

  async load(src) {
    try {
      const answer = await fetch(src);
      if (!answer.ok) throw new Error(await answer.text());
      this.data = await answer.json();
      this.cell = [0, Math.round(100 / this.data.bin_hz)];
      this.scale();
      this.layOut();
      this.draw();
      this.tools();
    } catch (error) {
      this.readout.textContent = error.message;
    }
    document.documentElement.dataset.map = "drawn";
  }

  get isTime() { return this.data.by === "time"; }

  // from the lowest decile to nearly the top of what is no motion of the craft's own
  scale() {
    const from = Math.ceil(OWN_MOTION_HZ / this.data.bin_hz);
    const values = this.data.db.flatMap((row) => row.slice(from)).filter((value) => value != null).sort((a, b) => a - b);
    this.low = values[Math.floor(values.length * 0.1)] ?? -60;
    this.high = Math.max(this.low + 12, values[Math.floor(values.length * 0.998)] ?? 0);
  }

  // how high each row is, and where it begins: runs of rows that were hardly flown become one break in the axis
  layOut() {
    const flown = this.data.db.map((row) => this.isTime || row.some((value) => value != null));
    this.heights = flown.map(() => ROW);
    this.breaks = [];
    for (let from = 0; from < flown.length; from += 1) {
      let to = from;
      while (to < flown.length && !flown[to]) to += 1;
      if (to - from >= LONG_BREAK) {
        this.heights.fill(0, from, to);
        this.heights[from] = BREAK;
        this.breaks.push([from, to]);
      }
      from = Math.max(from, to - 1);
    }
    this.starts = [0];
    this.heights.forEach((height) => this.starts.push(this.starts.at(-1) + height));
  }

  box() {
    const { clientWidth: width, clientHeight: height } = this.canvas;
    return { x: LEFT, y: TOP, w: width - LEFT - (this.isTime ? 12 : RIGHT), h: height - TOP - BOTTOM, width, height };
  }

  get topHz() { return (this.data.db[0].length - 1) * this.data.bin_hz; }

  draw() {
    if (!this.data) return;
    const { canvas } = this, box = this.box(), ratio = devicePixelRatio;
    canvas.width = Math.round(box.width * ratio);
    canvas.height = Math.round(box.height * ratio);
    const ctx = canvas.getContext("2d");
    ctx.scale(ratio, ratio);
    ctx.fillStyle = token("sheet");
    ctx.fillRect(0, 0, box.width, box.height);
    this.paint(ctx, box);
    this.marker(ctx, box);
    canvas.setAttribute("aria-label", this.spoken());
  }

  // the map without its marker, with any pen
  paint(ctx, box = this.box()) {
    ctx.imageSmoothingEnabled = false;
    ctx.drawImage(this.picture(), box.x, box.y, box.w, box.h);
    this.axes(ctx, box);
    if (!this.isTime) this.occupancy(ctx, box);
    this.names(ctx, box);
  }

  tools() {
    const { width, height } = this.box(), title = `noise map of ${this.data.role}`, stem = `noise-map-${this.data.role}`;
    addTools(this.figure, title, [
      ["Table", (button) => toggleTable(this.figure, button, title, () => this.rows(25, 40))],
      ["CSV", () => save(`${stem}.csv`, new Blob([csvOf(this.rows(0, Infinity))], { type: "text/csv" }))],
      ["SVG", () => saveSvg(stem, title, width, height, (pen) => this.paint(pen))],
      ["PNG", () => savePng(stem, width, height, (pen) => this.paint(pen))],
    ], this.canvas);
  }

  // one pixel a cell: frequency to the right and drive upwards, or time to the right and frequency upwards
  picture() {
    const { db } = this.data, rows = db.length, columns = db[0].length;
    const made = document.createElement("canvas");
    const total = this.starts.at(-1);
    [made.width, made.height] = this.isTime ? [rows, columns] : [columns, total];
    const ctx = made.getContext("2d"), image = ctx.createImageData(made.width, made.height);
    const ramp = [rgb(token("sheet")), rgb(token(this.data.role.split(".").pop())), rgb(token("ink"))], none = rgb(token("rule-2"));
    db.forEach((row, r) => row.forEach((value, c) => {
      const colour = value == null ? none : between(ramp, Math.min(1, Math.max(0, (value - this.low) / (this.high - this.low))));
      const places = this.isTime ? [[r, columns - 1 - c]] : Array.from({ length: this.heights[r] }, (_, k) => [c, total - 1 - this.starts[r] - k]);
      places.forEach(([x, y]) => image.data.set([...colour, 255], 4 * (y * made.width + x)));
    }));
    ctx.putImageData(image, 0, 0);
    return made;
  }

  xHz(hz, box) { return box.x + box.w * hz / this.topHz; }
  yHz(hz, box) { return box.y + box.h * (1 - hz / this.topHz); }
  yDrive(row, box) { return box.y + box.h * (1 - this.starts[row] / this.starts.at(-1)); }

  axes(ctx, box) {
    const { edges, unit, drive } = this.data, last = edges.length - 1, foot = box.y + box.h + 14;
    const step = this.topHz > 400 ? 100 : 50;
    for (let hz = 0; hz <= this.topHz; hz += step) {
      if (this.isTime) words(ctx, hz, box.x - 5, this.yHz(hz, box) + 4, { align: "right" });
      else words(ctx, hz, this.xHz(hz, box), foot, { align: "center" });
    }
    const label = (at) => edges[at] >= 10 ? edges[at].toFixed(0) : edges[at].toFixed(1);
    const quarters = [0, 1, 2, 3, 4].map((k) => Math.round(last * k / 4));
    if (this.isTime) quarters.forEach((at, k) => words(ctx, label(at), box.x + box.w * k / 4 * 0.98 + 4, foot, { align: "center" }));
    else {
      const taken = [];
      for (const at of [0, last, ...this.breaks.flat(), ...quarters]) {
        const y = this.yDrive(at, box);
        if (taken.some((other) => Math.abs(other - y) < 14) || this.breaks.some(([from, to]) => from < at && at < to)) continue;
        taken.push(y);
        words(ctx, label(at), box.x - 5, y + 4, { align: "right" });
      }
      for (const [from, to] of this.breaks) words(ctx, `${label(from)} to ${label(to)}: flown too briefly`, box.x + box.w / 2, (this.yDrive(from, box) + this.yDrive(to, box)) / 2 + 4, { align: "center" });
    }
    words(ctx, this.isTime ? "frequency, Hz" : `${drive}, ${unit}`, 2, 14);
    const badge = this.figure.closest("[data-badge]")?.dataset.badge;
    if (badge) words(ctx, badge, box.x + box.w, 14, { align: "right" });
    words(ctx, this.isTime ? "time, s" : "frequency, Hz", box.x + box.w, foot + 14, { align: "right" });
  }

  // how long each row was flown: a rare row is as bright as any, and says that it is rare
  occupancy(ctx, box) {
    const { seconds } = this.data, most = Math.max(...seconds, 0.1);
    words(ctx, "seconds", box.x + box.w + 8, 14);
    seconds.forEach((value, row) => {
      const top = this.yDrive(row + 1, box), h = this.yDrive(row, box) - top;
      if (h > 2) ctx.fillRect(box.x + box.w + 8, top + 1, Math.max(value > 0 ? 1 : 0, 44 * value / most), h - 2);
    });
  }

  names(ctx, box) {
    const taken = [];
    for (const line of this.data.lines.slice(0, 6)) {
      if (line.frequency_hz > this.topHz) continue;
      const moving = line.order != null, at = this.isTime ? this.yHz(line.frequency_hz, box) : this.xHz(line.frequency_hz, box);
      const look = { colour: "ink", dash: moving ? [5, 4] : [1, 4] };
      if (this.isTime && !moving) rule(ctx, box.x, at, box.x + box.w, at, look);
      else if (!this.isTime && moving) this.orderLine(ctx, box, line.order, look);
      else if (!this.isTime) rule(ctx, at, box.y, at, box.y + box.h, look);
      if (this.isTime && moving) continue;
      this.label(ctx, box, taken, line, moving);
    }
  }

  // an order of the motors rises with their speed, row by row
  orderLine(ctx, box, order, { colour, dash }) {
    let drawn = false;
    ctx.strokeStyle = token(colour);
    ctx.lineWidth = 1;
    ctx.setLineDash(dash);
    ctx.beginPath();
    this.data.tracks.forEach((hz, row) => {
      if (hz == null || hz * order > this.topHz) { drawn = false; return; }
      const x = this.xHz(hz * order, box), y = (this.yDrive(row, box) + this.yDrive(row + 1, box)) / 2;
      if (drawn) ctx.lineTo(x, y); else ctx.moveTo(x, y);
      drawn = true;
    });
    ctx.stroke();
    ctx.setLineDash([]);
  }

  label(ctx, box, taken, line, moving) {
    const name = moving ? (line.kind === "blade" ? "blades" : `${line.order}× motors`) : `${Math.round(line.frequency_hz)} Hz stays`;
    const width = ctx.measureText(name).width + 8;
    let x = (this.isTime ? box.x + box.w - width / 2 - 4 : this.xHz(moving ? Math.min(line.high_hz, this.topHz * 0.94) : line.frequency_hz, box)) - width / 2;
    x = Math.max(box.x, Math.min(box.x + box.w - width, x));
    let y = this.isTime ? this.yHz(line.frequency_hz, box) - 9 : box.y + 4;
    while (taken.some((other) => x < other.x + other.w && x + width > other.x && Math.abs(y - other.y) < 18)) y += 19;
    if (y > box.y + box.h - 18) return;
    taken.push({ x, y, w: width });
    const marked = moving ? line.order === this.data.marked_order : this.data.marked_hz.some((hz) => Math.abs(hz - line.frequency_hz) < 10);
    ctx.fillStyle = marked ? token("mark") : faded("sheet", 0.9);
    ctx.fillRect(x, y, width, 17);
    words(ctx, name, x + 4, y + 13, { colour: marked ? "mark-ink" : "ink" });
  }

  marker(ctx, box) {
    const [row, bin] = this.cell, rows = this.data.db.length, columns = this.data.db[0].length;
    const [x, y, w, h] = this.isTime
      ? [box.x + box.w * row / rows, box.y + box.h * (1 - (bin + 1) / columns), box.w / rows, box.h / columns]
      : [box.x + box.w * bin / columns, this.yDrive(row + 1, box), box.w / columns, this.yDrive(row, box) - this.yDrive(row + 1, box)];
    ctx.strokeStyle = token("ink");
    ctx.lineWidth = 2;
    ctx.strokeRect(x - 1, y - 1, w + 2, h + 2);
  }

  point(event) {
    if (!this.data) return;
    const box = this.box(), rect = this.canvas.getBoundingClientRect();
    const u = (event.clientX - rect.left - box.x) / box.w, v = 1 - (event.clientY - rect.top - box.y) / box.h;
    if (u < 0 || u >= 1 || v < 0 || v >= 1) return;
    const rows = this.data.db.length, columns = this.data.db[0].length;
    const row = this.starts.findLastIndex((start) => start <= v * this.starts.at(-1));
    this.cell = this.isTime ? [Math.floor(u * rows), Math.floor(v * columns)] : [Math.min(row, rows - 1), Math.floor(u * columns)];
    this.tell();
  }

  key(event) {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (!step || !this.data) return;
    event.preventDefault();
    const [dx, dy] = step, [row, bin] = this.cell, rows = this.data.db.length, columns = this.data.db[0].length;
    const wanted = this.isTime ? [row + dx, bin + dy] : [row + dy, bin + dx];
    while (this.heights[wanted[0]] === 0) wanted[0] += dy; // over the rest of a break
    this.cell = [Math.min(rows - 1, Math.max(0, wanted[0])), Math.min(columns - 1, Math.max(0, wanted[1]))];
    this.tell();
  }

  tell() {
    const [row, bin] = this.cell, { edges, unit, drive, seconds, db, bin_hz: binHz } = this.data;
    const level = db[row][bin], where = this.isTime ? `${edges[row].toFixed(2)} s` : `${drive} ${edges[row].toFixed(0)} to ${edges[row + 1].toFixed(0)} ${unit}`;
    const flown = this.isTime ? "" : ` · flown for ${text(seconds[row])} s`;
    this.readout.textContent = `${text(bin * binHz)} Hz · ${where} · ${level == null ? "flown too briefly to say" : `${level} dB re 1 (deg/s)²/Hz`}${flown}`.replace("-", "\u2212");
    const link = this.figure.querySelector("[data-traces]");
    if (link && this.isTime) {
      link.hidden = false;
      link.href = `${link.dataset.traces}?from=${(edges[row] - 0.5).toFixed(3)}&to=${(edges[row] + 0.5).toFixed(3)}`;
      link.textContent = `Look at ${edges[row].toFixed(1)} s in the traces`;
    }
    this.draw();
  }

  spoken() {
    const named = this.data.lines.slice(0, 4).map((line) => `${line.name}, ${line.frequency_hz} Hz`).join("; ");
    return `Noise of ${this.data.role} by frequency and ${this.data.drive}. ${named || "No line stands out"}. Arrow keys read it cell by cell, Enter offers its table and files.`;
  }

  // a row for each drive or moment, at most so many; a column about every so many Hz
  rows(everyHz, most) {
    const { db, edges, bin_hz: binHz, drive, unit } = this.data, every = Math.max(1, Math.round(everyHz / binHz));
    const bins = db[0].map((_, k) => k).filter((k) => k && k % every === 0);
    const shown = db.map((_, r) => r).filter((r) => r % Math.ceil(db.length / most || 1) === 0);
    return [[`${drive}, ${unit}`, ...bins.map((k) => `${Math.round(k * binHz)} Hz`)], ...shown.map((r) => [edges[r], ...bins.map((k) => db[r][k] ?? "–")])];
  }
}

function rgb(colour) {
  const probe = document.createElement("canvas").getContext("2d", { willReadFrequently: true });
  probe.fillStyle = colour;
  probe.fillRect(0, 0, 1, 1);
  return [...probe.getImageData(0, 0, 1, 1).data].slice(0, 3);
}

function between([low, middle, high], share) {
  const [a, b, t] = share < 0.6 ? [low, middle, share / 0.6] : [middle, high, (share - 0.6) / 0.4];
  return a.map((value, k) => Math.round(value + t * (b[k] - value)));
}

onContent((root) => {
  const figure = root.querySelector("figure.noise-map");
  if (!figure) return;
  delete document.documentElement.dataset.map;
  new NoiseMap(figure).load(figure.dataset.map);
});
