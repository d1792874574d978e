// The usable window as a band with two handles over the flight: by mouse, finger or arrow keys.
import { Chart } from "../common/charts/chart.js";
import { element, onContent } from "../common/charts/kit.js";
import { decode } from "./trace/data.js";

const LEAST_S = 0.5;

class WindowPicker {
  constructor(figure) {
    const { from, to } = figure.dataset;
    Object.assign(this, { figure, all: [Number(from), Number(to)], spans: JSON.parse(document.getElementById("overview-spans").textContent) });
    this.inputs = { start: document.getElementById("window-start"), end: document.getElementById("window-end") };
  }

  async load() {
    const { trace: src, role, from, to } = this.figure.dataset;
    const answer = await fetch(`${src}?roles=${role}&from=${Number(from)}&to=${Number(to)}&columns=${Math.max(300, this.figure.clientWidth)}`);
    if (answer.ok) this.draw(role, await answer.arrayBuffer());
    else this.figure.querySelector(".plot").textContent = await answer.text();
    document.documentElement.dataset.charts = "drawn";
  }

  draw(role, buffer) {
    const [{ x, low, high, group }] = decode(buffer).values();
    const title = role.replaceAll("_", " "), unit = this.figure.dataset.unit;
    const line = { label: title, look: "plain", colour: "ink", x, y: low, ...(group > 1 ? { low, high, envelope: true } : {}) };
    this.chart = new Chart(this.figure, { title: `${title} over the whole log`, x: { label: "time", unit: "s", low: this.all[0], high: this.all[1] }, y: { label: title, unit }, lines: [line], bands: this.spans, marks: [], level: null }, { height: 170 });
    if (!this.inputs.start) return;
    this.over = this.figure.querySelector(".u-over");
    this.band = this.over.appendChild(element("div", "window-band"));
    this.handles = Object.fromEntries(["start", "end"].map((which) => [which, this.handle(which)]));
    this.place();
    this.chart.u.hooks.setScale = [...(this.chart.u.hooks.setScale ?? []), () => this.place()];
    new ResizeObserver(() => setTimeout(() => this.place())).observe(this.over);
    for (const input of Object.values(this.inputs)) input.addEventListener("input", () => this.place());
  }

  // puts band and handles where the numbers say
  place() {
    const at = (which) => this.chart.u.valToPos(Number(this.inputs[which].value), "x");
    this.band.style.left = `${at("start")}px`;
    this.band.style.width = `${Math.max(0, at("end") - at("start"))}px`;
    for (const which of ["start", "end"]) {
      this.handles[which].style.left = `${at(which)}px`;
      this.handles[which].setAttribute("aria-valuenow", this.inputs[which].value);
      this.handles[which].setAttribute("aria-valuetext", `${this.inputs[which].value} s`);
    }
  }

  set(which, value) {
    const edge = (name) => Number(this.inputs[name].value);
    const kept = which === "start" ? Math.min(Math.max(this.all[0], value), edge("end") - LEAST_S) : Math.max(Math.min(this.all[1], value), edge("start") + LEAST_S);
    this.inputs[which].value = kept.toFixed(2);
    this.place();
  }

  handle(which) {
    const made = element("div", "window-handle");
    made.tabIndex = 0;
    made.setAttribute("role", "slider");
    made.setAttribute("aria-label", `${which} of the usable window`);
    made.setAttribute("aria-valuemin", String(this.all[0]));
    made.setAttribute("aria-valuemax", String(this.all[1]));
    made.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      event.stopPropagation();
      made.setPointerCapture(event.pointerId);
      made.focus();
    });
    for (const name of ["mousedown", "click", "dblclick"]) made.addEventListener(name, (event) => event.stopPropagation());
    made.addEventListener("pointermove", (event) => {
      if (made.hasPointerCapture(event.pointerId)) this.set(which, this.chart.u.posToVal(event.clientX - this.over.getBoundingClientRect().left, "x"));
    });
    made.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -0.1, ArrowRight: 0.1, PageDown: -1, PageUp: 1 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      this.set(which, Number(this.inputs[which].value) + step);
    });
    this.over.append(made);
    return made;
  }
}

onContent((root) => {
  const figure = root.querySelector("#overview");
  if (!figure) return;
  delete document.documentElement.dataset.charts;
  new WindowPicker(figure).load();
});
