// Stacked panes that share time: made from lists of channels, drawn one a frame.
import { Chart } from "../../common/charts/chart.js";

const LOOKS = { setpoint: "setpoint", gyro_raw: "raw", gyro: "filtered" };
const SHORT = { gyro: "gyro", gyro_raw: "raw gyro", setpoint: "set-point", term_p: "P", term_i: "I", term_d: "D", term_f: "F" };

const QUANTITIES = { "deg/s": "rate", V: "voltage", A: "current", m: "height", "m/s": "speed", deg: "angle", rpm: "speed", "m/s2": "force" };

// another unit in the same pane is enlarged by 1, 2 or 5 and a power of ten, and its label says by how much
const most = ({ low, high }) => [...low, ...high].reduce((found, value) => Math.max(found, Math.abs(value ?? 0)), 0);
function even(factor) {
  if (!Number.isFinite(factor) || factor <= 0) return 1;
  const decade = 10 ** Math.floor(Math.log10(factor));
  return Number((decade * [1, 2, 5].findLast((step) => step * decade <= factor * 1.0001)).toPrecision(3));
}
const familyOf = (entry) => entry.role.replace("b/", "").split(".")[0];
const times = (values, factor) => values.map((value) => (value == null ? null : value * factor));
const enlarged = (found, factor) => (factor === 1 ? found : { ...found, low: times(found.low, factor), high: times(found.high, factor) });

export class Panes {
  // box: where panes go; channels: id → entry of the page; on: callbacks range, place, cursor, remove
  constructor(box, channels, all, on) {
    Object.assign(this, { box, channels, all, on, panes: [] });
  }

  get ids() { return [...new Set(this.panes.flatMap((pane) => pane.ids))]; }

  set(lists) {
    this.box.replaceChildren();
    this.panes = lists.map((ids, k) => ({ ids, figure: this.figure(ids, k), chart: null }));
    this.box.append(...this.panes.map((pane) => pane.figure));
    this.box.classList.toggle("many", lists.length > 4);
  }

  figure(ids, k) {
    const figure = document.createElement("figure");
    figure.className = "chart pane";
    const caption = document.createElement("figcaption");
    const first = this.channels.get(ids[0]);
    const name = document.createElement("b");
    name.className = first.colour;
    name.textContent = this.title(ids);
    const readout = document.createElement("span");
    readout.className = "readout";
    readout.textContent = "\u00a0";
    const close = document.createElement("button");
    close.type = "button";
    close.className = "button is-small";
    close.textContent = "Close";
    close.setAttribute("aria-label", `Close the pane ${this.title(ids)}`);
    close.tabIndex = -1; // the picture is one stop: Delete closes it from the keyboard
    close.addEventListener("click", () => this.on.remove(k));
    caption.append(name, readout, close);
    const plot = document.createElement("div");
    plot.className = "plot";
    plot.addEventListener("keydown", (event) => { if (event.key === "Delete") this.on.remove(k); });
    figure.append(caption, plot);
    return figure;
  }

  title(ids) {
    const first = this.channels.get(ids[0]);
    const axis = ["roll", "pitch", "yaw"].find((word) => first.label.endsWith(`.${word}`));
    if (axis && ids.length > 1 && ids.every((id) => this.channels.get(id).label.endsWith(`.${axis}`))) return axis;
    return ids.map((id) => this.channels.get(id).name).join(" and ");
  }

  draw(envelope, [from, to], cursors, bands) {
    this.drawing = (this.drawing ?? 0) + 1;
    const mine = this.drawing;
    const queue = [...this.panes];
    return new Promise((done) => {
      const next = () => {
        const pane = queue.shift();
        if (!pane || mine !== this.drawing) { done(); return; }
        this.drawPane(pane, this.spec(pane, envelope, from, to, cursors, bands), pane === this.panes[this.panes.length - 1]);
        requestAnimationFrame(next);
      };
      next();
    });
  }

  drawPane(pane, spec, isLast) {
    if (pane.chart) { pane.chart.setSpec(spec); return; }
    const many = this.panes.length > 4;
    pane.chart = new Chart(pane.figure, spec, {
      height: (many ? 110 : 156) + (isLast ? 18 : 0), all: this.all, sync: "traces", timeLabel: isLast,
      onRange: this.on.range, onPlace: this.on.place, onCursor: this.on.cursor,
    });
  }

  spec(pane, envelope, from, to, cursors, bands) {
    const entries = pane.ids.map((id) => this.channels.get(id));
    const unit = entries[0].unit, reach = envelope.has(pane.ids[0]) ? most(envelope.get(pane.ids[0])) : 0;
    const lines = pane.ids.flatMap((id, n) => {
      if (!envelope.has(id)) return [];
      const factor = entries[n].unit === unit ? 1 : even(reach / most(envelope.get(id)));
      const own = entries.slice(0, n).filter((entry) => !LOOKS[familyOf(entry)]).length; // lines before it without a look of their family
      return [this.line(entries[n], enlarged(envelope.get(id), factor), own, entries.length, factor)];
    });
    const isShare = unit === "1" && entries.every((entry) => /throttle|motor/.test(entry.role));
    return {
      title: `${this.title(pane.ids)} over time`, x: { label: "time", unit: "s", low: from, high: to },
      y: { label: isShare ? "share" : entries[0].labels ? "state" : (QUANTITIES[unit] ?? "value"), unit, ...(isShare ? { low: 0, high: 1.05 } : {}) },
      lines, bands, marks: [], cursors, level: isShare ? null : 0,
    };
  }

  line(entry, { x, low, high, group }, n, count, factor) {
    const family = familyOf(entry);
    const look = LOOKS[family] === "raw" && count === 1 ? "filtered" : LOOKS[family] ?? ["plain", "third", "second", "fourth"][n % 4];
    const name = SHORT[family] && count > 1 ? SHORT[family] : entry.name;
    const label = factor === 1 ? name : `${name} × ${factor}`;
    const line = { label, look: look === "raw" ? "plain" : look, colour: look === "raw" ? "ink-2" : entry.colour, x, y: low, labels: entry.labels };
    // several samples a column: the area from lowest to highest; single samples: a plain line
    return look === "setpoint" || group <= 1 ? line : { ...line, low, high, envelope: true };
  }

  // moves all panes at once over what is already here, while a finger is down
  preview(from, to) { for (const pane of this.panes) pane.chart?.show(from, to); }

  point(x) { for (const pane of this.panes) pane.chart?.point(x); }

  here() { return this.panes[0]?.chart?.here() ?? (this.all[0] + this.all[1]) / 2; }
}
