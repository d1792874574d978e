// The trace view: panes that share time; what is shown is fetched at the picture's own width.
import { Chart } from "../common/charts/chart.js";

const view = document.getElementById("traces");
const { src, from, to } = view.dataset;
const all = [Number(from), Number(to)];
const panes = [...view.querySelectorAll("figure.chart")].map((figure) => ({ figure, ...JSON.parse(figure.querySelector("script").textContent) }));
const NAMES = { gyro: "gyro", gyro_raw: "raw gyro", setpoint: "set-point", throttle: "throttle", motor: "output" };
const history = [];
let shown = null, request = 0;

panes.forEach((pane, k) => { pane.last = pane.small || !panes[k + 1] || Boolean(panes[k + 1].small); });
const roles = [...new Set(panes.flatMap((pane) => pane.lines.map(([role]) => role)))];

async function show(start, end, { remember = true } = {}) {
  const least = 0.005;
  start = Math.max(all[0], start);
  end = Math.min(all[1], Math.max(end, start + least));
  const mine = ++request;
  const columns = Math.max(200, Math.round(panes[0].figure.clientWidth));
  const answer = await fetch(`${src}?roles=${roles.join(",")}&from=${start}&to=${end}&columns=${columns}`).catch(() => null);
  if (mine !== request) return; // a newer view is on its way
  const failure = document.getElementById("trace-error");
  failure.hidden = Boolean(answer?.ok);
  if (!answer?.ok) { failure.textContent = answer ? await answer.text() : "Nembrit does not answer: is it still running?"; return; }
  const data = decode(await answer.arrayBuffer());
  if (remember && shown) history.push(shown);
  shown = [start, end];
  for (const pane of panes) draw(pane, data);
  window.history.replaceState(null, "", `?from=${start.toFixed(4)}&to=${end.toFixed(4)}`);
  document.getElementById("trace-span").textContent = `${start.toFixed(3)} to ${end.toFixed(3)} s`;
  document.documentElement.dataset.charts = "drawn";
}

function decode(buffer) {
  const length = new DataView(buffer).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(buffer, 4, length)));
  const column = (k) => new Float32Array(buffer, 4 + length + 4 * header.n * k, header.n);
  const x = Float64Array.from(column(0), (t) => t + header.start_s);
  const envelope = Object.fromEntries(header.roles.map((role, k) => [role, { low: column(1 + 2 * k), high: column(2 + 2 * k) }]));
  return { x: [...x], envelope, group: header.group };
}

const blank = (values) => Array.from(values, (value) => (Number.isNaN(value) ? null : value));

function draw(pane, { x, envelope, group }) {
  const lines = pane.lines.map(([role, look]) => {
    const { low, high } = envelope[role];
    const line = { label: NAMES[role.split(".")[0]] ?? role, look, colour: pane.colour, x, y: blank(low) };
    // several samples a column: the area from lowest to highest; single samples: a plain line
    return group > 1 && look !== "setpoint" ? { ...line, low: line.y, high: blank(high), envelope: true } : { ...line, ...(look === "setpoint" ? {} : { low: line.y, high: line.y, envelope: true }) };
  });
  const spec = { title: `${pane.title} over time`, x: { label: "time", unit: "s", low: shown[0], high: shown[1] }, y: { label: pane.title, unit: pane.unit, ...(pane.unit === "1" ? { low: 0, high: 1.05 } : {}) }, lines, bands: [], marks: [], level: pane.unit === "1" ? null : 0 };
  if (pane.chart) pane.chart.setSpec(spec);
  else pane.chart = new Chart(pane.figure, spec, { height: pane.small ? 120 : 190, onRange: show, all, sync: "traces", timeLabel: pane.last ?? false });
}

document.getElementById("trace-back").addEventListener("click", () => { const last = history.pop(); if (last) show(...last, { remember: false }); });
document.getElementById("trace-all").addEventListener("click", () => show(...all));
for (const [id, step] of [["trace-left", -0.5], ["trace-right", 0.5]]) {
  document.getElementById(id).addEventListener("click", () => {
    const width = shown[1] - shown[0], start = Math.max(all[0], Math.min(all[1] - width, shown[0] + step * width));
    show(start, start + width);
  });
}

const wanted = new URLSearchParams(location.search);
show(Number(wanted.get("from") ?? all[0]), Number(wanted.get("to") ?? all[1]));
