// The chart module: every line picture of the workshop. `<figure class="chart" data-src="…">` draws itself;
// `data-spec` names an element of the page that holds the picture.
import uPlot from "../../vendor/uplot-1.6.32/uPlot.esm.js";
import { columns, csv, headers, places, yRange } from "./data.js";
import { drawAbove, drawBelow } from "./layers.js";
import { decades, faded, lookOf, meant, text, tick, token } from "./style.js";
import { NUMBERS, WORDS, addTools, element, onContent, readoutOf, save, savePng, saveSvg, toggleTable } from "./kit.js";
import { axisLabel, paintLines } from "./paint.js";

const STEP = 0.02, ZOOM = 0.6;

export class Chart {
  // options: height, onRange(min, max) for pages that fetch what is shown, sync key for a shared cursor
  constructor(figure, spec, options = {}) {
    this.figure = figure;
    this.options = options;
    this.plot = figure.querySelector(".plot") ?? figure.appendChild(element("div", "plot"));
    this.readout = readoutOf(figure);
    this.plot.tabIndex = 0;
    this.plot.setAttribute("role", "group");
    this.plot.addEventListener("keydown", (event) => this.key(event));
    document.addEventListener("nembrit:theme", () => this.u?.redraw(false, true));
    this.setSpec(spec);
    this.tools();
    new ResizeObserver(() => this.u?.setSize(this.size())).observe(this.plot);
    if (options.onPlace) this.plot.addEventListener("click", (event) => { if (!this.dragged) options.onPlace(this.here(), event); });
  }

  // where the cursor stands on the x axis, else the middle of the view
  here() {
    const [from, to] = this.view ?? this.full;
    return this.u.cursor.left >= 0 ? this.u.posToVal(this.u.cursor.left, "x") : (from + to) / 2;
  }

  size() { return { width: Math.max(200, this.plot.clientWidth), height: this.options.height ?? 230 }; }

  setSpec(spec) {
    this.spec = { ...spec, badge: this.figure.closest("[data-badge]")?.dataset.badge };
    this.places = places(spec);
    const data = columns(spec);
    this.full = [spec.x.low ?? data[0][0] ?? 0, spec.x.high ?? data[0][data[0].length - 1] ?? 1];
    this.plot.setAttribute("aria-label", `${spec.title}. Arrow keys move the cursor, plus and minus zoom, 0 shows all, Enter offers its table and files.`);
    // lines get or lose their areas as a view shows many samples a column, or single ones
    const shape = spec.lines.map((line) => `${Boolean(line.low)}${Boolean(line.envelope)}`).join();
    if (this.u && shape === this.shape) { this.u.setData(data, false); this.show(...this.full); return; }
    this.u?.destroy();
    Object.assign(this, { shape, view: null });
    this.u = new uPlot(this.plotOptions(data), data, this.plot);
  }

  plotOptions(data) {
    const { spec } = this;
    const axis = (side, label, kind) => ({
      side, ...(label ? { label, labelSize: 18 } : {}), labelFont: `12px ${WORDS}`, font: `12px ${NUMBERS}`,
      stroke: () => token("ink-2"), size: side === 2 ? 28 : 46, gap: 3,
      grid: { show: side === 3, stroke: () => token("rule-2"), width: 1 }, ticks: { show: side === 2, stroke: () => token("rule"), size: 4 },
      ...(kind.is_log ? { splits: (u, _, low, high) => decades(low, high), filter: (u, splits) => splits } : {}),
      values: (u, splits) => splits.map((value) => (value == null ? "" : tick(meant(kind, value)))), space: side === 2 ? 55 : 32,
    });
    return {
      ...this.size(),
      padding: [8, 16, 0, 0],
      legend: { show: false },
      scales: { x: { time: false, range: () => this.view ?? this.full }, y: { range: (u) => yRange(this.spec, u.data, ...(this.view ?? this.full)) } },
      axes: [axis(2, this.options.timeLabel === false ? null : axisLabel(spec.x), spec.x), axis(3, axisLabel(spec.y), spec.y)],
      series: [{}, ...spec.lines.flatMap((line) => this.seriesOf(line))],
      bands: spec.lines.flatMap((line, n) => (line.low ? [{ series: [this.places[n].high, this.places[n].low], fill: () => faded(lookOf(line).colour, lookOf(line).alpha ?? 0.2) }] : [])),
      cursor: { drag: { x: true, y: false, setScale: false }, points: { show: false }, y: false, ...(this.options.sync ? { sync: { key: this.options.sync } } : {}) },
      hooks: {
        drawClear: [(u) => drawBelow(u.ctx, u, this.spec)],
        draw: [(u) => drawAbove(u.ctx, u, this.spec, this.places)],
        setCursor: [(u) => this.read(u.cursor.idx)],
        setSelect: [(u) => this.selected(u)],
      },
    };
  }

  seriesOf(line) {
    const look = lookOf(line);
    const y = {
      stroke: () => (look.fillDown ? faded(look.colour, 0.5) : token(look.colour)), width: look.width, dash: look.dash, points: { show: false }, spanGaps: false,
      ...(look.fillDown ? { fill: () => faded(look.colour, look.alpha), fillTo: (u) => u.scales.y.min } : {}),
    };
    const edge = { stroke: () => (line.envelope ? token(look.colour) : "transparent"), width: line.envelope ? 1 : 0, points: { show: false }, spanGaps: false };
    return line.low ? [y, edge, edge] : [y];
  }

  selected(u) {
    this.dragged = u.select.width >= 6;
    if (!this.dragged) return;
    setTimeout(() => { this.dragged = false; });
    const from = u.posToVal(u.select.left, "x"), to = u.posToVal(u.select.left + u.select.width, "x");
    u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
    this.zoomTo(from, to);
  }

  zoomTo(from, to) {
    if (this.options.onRange) this.options.onRange(from, to);
    else this.show(Math.max(from, this.full[0]), Math.min(to, this.full[1]));
  }

  // stands the cursor at a value of x; outside the view it goes away
  point(x) {
    const { min, max } = this.u?.scales.x ?? {};
    if (min == null) return;
    this.u.setCursor(x < min || x > max ? { left: -10, top: -10 } : { left: this.u.valToPos(x, "x"), top: 20 });
  }

  show(from, to) {
    this.view = [from, to];
    this.u.setScale("x", { min: from, max: to });
  }

  showAll() { this.zoomTo(...(this.options.all ?? this.full)); }

  read(index) {
    if (index == null) return;
    this.index = index;
    const x = this.u.data[0][index];
    this.options.onCursor?.(x);
    const values = this.spec.lines.map((line, n) => {
      const { y, low, high } = this.places[n];
      const at = this.u.data[y][index];
      if (at == null) return null;
      const told = (column) => text(meant(this.spec.y, this.u.data[column][index]));
      const spread = low != null && !line.envelope ? ` (${told(low)} to ${told(high)})` : "";
      return `${line.label} ${line.labels ? line.labels[Math.round(at)] ?? "–" : told(y)}${spread}`;
    });
    this.readout.textContent = `${text(meant(this.spec.x, x), this.spec.x.unit)} · ${values.filter(Boolean).join(" · ")}`;
  }

  key(event) {
    const [from, to] = this.view ?? this.full;
    const here = this.index != null ? this.u.data[0][this.index] : (from + to) / 2;
    const zoom = (factor) => this.zoomTo(here - (here - from) * factor, here + (to - here) * factor);
    const move = (share) => {
      const wanted = Math.min(to, Math.max(from, here + share * (to - from)));
      this.u.setCursor({ left: this.u.valToPos(wanted, "x"), top: 20 });
    };
    const actions = {
      ArrowLeft: () => move(-STEP), ArrowRight: () => move(STEP), Home: () => move(-1), End: () => move(1),
      "+": () => zoom(ZOOM), "=": () => zoom(ZOOM), "-": () => zoom(1 / ZOOM), 0: () => this.showAll(), Escape: () => this.showAll(),
    };
    const action = actions[event.key];
    if (!action || event.ctrlKey || event.metaKey) return;
    event.preventDefault();
    event.stopPropagation();
    action();
  }

  tools() {
    const ratio = devicePixelRatio, canvas = () => this.u.ctx.canvas; // a new one when lines get or lose their areas
    const stem = () => this.spec.title.toLowerCase().replace(/[^a-z0-9]+/g, "-");
    addTools(this.figure, this.spec.title, [
      ...(this.options.onRange ? [] : [["All", () => this.showAll()]]),
      ["Table", (button) => toggleTable(this.figure, button, this.spec.title, () => this.rows())],
      ["CSV", () => save(`${stem()}.csv`, new Blob([csv(this.spec)], { type: "text/csv" }))],
      ["SVG", () => saveSvg(stem(), this.spec.title, canvas().width, canvas().height, (pen) => paintLines(pen, this.u, this.spec, this.places), ratio)],
      ["PNG", () => savePng(stem(), canvas().width, canvas().height, (pen) => pen.drawImage(canvas(), 0, 0), 1)],
    ], this.plot);
  }

  // about a hundred rows of what is in view
  rows() {
    const [from, to] = this.view ?? this.full;
    const inside = this.u.data[0].map((_, k) => k).filter((k) => this.u.data[0][k] >= from && this.u.data[0][k] <= to);
    const every = Math.max(1, Math.ceil(inside.length / 100));
    const told = (k) => this.u.data.map((column, n) => text(meant(n ? this.spec.y : this.spec.x, column[k])));
    return [headers(this.spec), ...inside.filter((_, n) => n % every === 0).map(told)];
  }
}

// draws every picture of a page, or of a part of it that was swapped in
async function drawAll(root) {
  const figures = [...root.querySelectorAll("figure.chart[data-src], figure.chart[data-spec]")];
  if (!figures.length) return;
  delete document.documentElement.dataset.charts;
  await Promise.all([`12px ${WORDS}`, `12px ${NUMBERS}`].map((font) => document.fonts.load(font)));
  await Promise.all(figures.map(draw));
  document.documentElement.dataset.charts = "drawn";
}

async function fetched(src) {
  const answer = await fetch(src);
  if (!answer.ok) throw new Error(String(answer.status));
  return answer.json();
}

async function draw(figure) {
  try {
    const spec = figure.dataset.spec ? JSON.parse(document.getElementById(figure.dataset.spec).textContent) : await fetched(figure.dataset.src);
    figure.chart = new Chart(figure, spec, { height: Number(figure.dataset.height) || undefined });
  } catch (error) {
    figure.querySelector(".plot").textContent = "This picture could not be loaded; the numbers beside it still hold. Load the page again.";
    console.error(error);
  }
}

onContent(drawAll);
