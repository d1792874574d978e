// Stacked panes that share time: made from lists of channels, drawn one a frame.
import { Chart } from "../../common/charts/chart.js";

const LOOKS = { setpoint: "setpoint", gyro_raw: "raw", gyro: "filtered" };
const SHORT = { gyro: "gyro", gyro_raw: "raw gyro", setpoint: "set-point", term_p: "P", term_i: "I", term_d: "D", term_f: "F" };

const QUANTITIES = { "deg/s": "rate", V: "voltage", A: "current", m: "height", "m/s": "speed", deg: "angle", rpm: "speed", "m/s2": "force" };

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
    close.addEventListener("click", () => this.on.remove(k));
    caption.append(name, readout, close);
    const plot = document.createElement("div");
    plot.className = "plot";
    figure.append(caption, plot);
    return figure;
  }

  title(ids) {
    const first = this.channels.get(ids[0]);
    const axis = ["roll", "pitch", "yaw"].find((word) => first.label.endsWith(`.${word}`));
    if (axis && ids.every((id) => this.channels.get(id).label.endsWith(`.${axis}`))) return ids.length > 1 ? axis : first.label.replace("_", " ");
    return ids.map((id) => this.channels.get(id).label.replaceAll("_", " ")).join(", ");
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
    const lines = pane.ids.flatMap((id, n) => (envelope.has(id) ? [this.line(entries[n], envelope.get(id), n, entries.length)] : []));
    const unit = entries[0].unit;
    const isShare = unit === "1" && entries.every((entry) => /throttle|motor/.test(entry.role));
    return {
      title: `${this.title(pane.ids)} over time`, x: { label: "time", unit: "s", low: from, high: to },
      y: { label: isShare ? "share" : entries[0].labels ? "state" : (QUANTITIES[unit] ?? "value"), unit, ...(isShare ? { low: 0, high: 1.05 } : {}) },
      lines, bands, marks: [], cursors, level: isShare ? null : 0,
    };
  }

  line(entry, { x, low, high, group }, n, count) {
    const family = entry.role.replace("b/", "").split(".")[0];
    const look = LOOKS[family] === "raw" && count === 1 ? "filtered" : LOOKS[family] ?? (n ? "before" : "plain");
    const label = SHORT[family] && count > 1 ? SHORT[family] : entry.label.replaceAll("_", " ");
    const line = { label, look: look === "raw" ? "plain" : look, colour: look === "raw" ? "ink-2" : entry.colour, x, y: low, labels: entry.labels };
    // several samples a column: the area from lowest to highest; single samples: a plain line
    return look === "setpoint" || group <= 1 ? line : { ...line, low, high, envelope: true };
  }

  // moves all panes at once over what is already here, while a finger is down
  preview(from, to) { for (const pane of this.panes) pane.chart?.show(from, to); }

  here() { return this.panes[0]?.chart?.here() ?? (this.all[0] + this.all[1]) / 2; }
}
