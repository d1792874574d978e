// The usable window as a band with two handles over the flight: by mouse, finger or arrow keys.
import { Chart } from "../common/charts/chart.js";
import { decode } from "./trace/data.js";

const figure = document.getElementById("overview");
const { trace: src, role, from, to } = figure.dataset;
const all = [Number(from), Number(to)];
const inputs = { start: document.getElementById("window-start"), end: document.getElementById("window-end") };
const spans = JSON.parse(document.getElementById("overview-spans").textContent);
const LEAST_S = 0.5;
let place = () => {}; // puts band and handles where the numbers say

const answer = await fetch(`${src}?roles=${role}&from=${all[0]}&to=${all[1]}&columns=${Math.max(300, figure.clientWidth)}`);
if (answer.ok) draw(await answer.arrayBuffer());
else figure.querySelector(".plot").textContent = await answer.text();

function draw(buffer) {
  const [{ x, low, high, group }] = decode(buffer).values();
  const title = role.replaceAll("_", " ");
  const line = { label: title, look: "plain", colour: "ink", x, y: low, ...(group > 1 ? { low, high, envelope: true } : {}) };
  const chart = new Chart(figure, { title: `${title} over the whole log`, x: { label: "time", unit: "s", low: all[0], high: all[1] }, y: { label: title, unit: figure.dataset.unit }, lines: [line], bands: spans, marks: [], level: null }, { height: 170 });
  const over = figure.querySelector(".u-over");
  const band = document.createElement("div");
  band.className = "window-band";
  over.append(band);
  if (!inputs.start) { band.remove(); return finish(); }
  const handles = Object.fromEntries(["start", "end"].map((which) => [which, handle(which, chart, over)]));
  place = () => {
    const at = (which) => chart.u.valToPos(Number(inputs[which].value), "x");
    band.style.left = `${at("start")}px`;
    band.style.width = `${Math.max(0, at("end") - at("start"))}px`;
    for (const which of ["start", "end"]) {
      handles[which].style.left = `${at(which)}px`;
      handles[which].setAttribute("aria-valuenow", inputs[which].value);
      handles[which].setAttribute("aria-valuetext", `${inputs[which].value} s`);
    }
  };
  place();
  chart.u.hooks.setScale = [...(chart.u.hooks.setScale ?? []), place];
  new ResizeObserver(() => setTimeout(place)).observe(over);
  for (const input of Object.values(inputs)) input.addEventListener("input", place);
  finish();
}

function finish() { document.documentElement.dataset.charts = "drawn"; }

function handle(which, chart, over) {
  const made = document.createElement("div");
  made.className = "window-handle";
  made.tabIndex = 0;
  made.setAttribute("role", "slider");
  made.setAttribute("aria-label", `${which} of the usable window`);
  made.setAttribute("aria-valuemin", String(all[0]));
  made.setAttribute("aria-valuemax", String(all[1]));
  const set = (value) => {
    const start = which === "start" ? value : Number(inputs.start.value), end = which === "end" ? value : Number(inputs.end.value);
    const kept = which === "start" ? Math.min(Math.max(all[0], start), end - LEAST_S) : Math.max(Math.min(all[1], end), start + LEAST_S);
    inputs[which].value = kept.toFixed(2);
    place();
  };
  made.addEventListener("pointerdown", (event) => {
    event.preventDefault();
    event.stopPropagation();
    made.setPointerCapture(event.pointerId);
    made.focus();
  });
  for (const name of ["mousedown", "click", "dblclick"]) made.addEventListener(name, (event) => event.stopPropagation());
  made.addEventListener("pointermove", (event) => {
    if (made.hasPointerCapture(event.pointerId)) set(chart.u.posToVal(event.clientX - over.getBoundingClientRect().left, "x"));
  });
  made.addEventListener("keydown", (event) => {
    const step = { ArrowLeft: -0.1, ArrowRight: 0.1, PageDown: -1, PageUp: 1 }[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    set(Number(inputs[which].value) + step);
  });
  over.append(made);
  return made;
}
