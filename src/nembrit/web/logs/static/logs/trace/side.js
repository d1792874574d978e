// Beside the panes: the spectrum of exactly what is visible, and what lies between two cursors.
import { Chart } from "../../common/charts/chart.js";
import { text } from "../../common/charts/style.js";

export class SpectrumSide {
  constructor(figure, src) {
    Object.assign(this, { figure, src, request: 0, timer: null });
  }

  follow(channel, from, to) {
    clearTimeout(this.timer);
    if (!channel) { this.figure.hidden = true; return; }
    this.figure.hidden = false;
    this.timer = setTimeout(() => this.load(channel, from, to), 120);
  }

  async load(channel, from, to) {
    const mine = ++this.request;
    const answer = await fetch(`${this.src}?channel=${channel}&from=${from}&to=${to}`).catch(() => null);
    if (mine !== this.request) return;
    const reason = this.figure.querySelector(".reason");
    reason.textContent = answer?.ok ? "" : answer ? `No spectrum of this view: ${await answer.text()}.` : "Nembrit does not respond.";
    this.figure.querySelector(".plot").hidden = !answer?.ok;
    if (!answer?.ok) return;
    const spec = await answer.json();
    if (this.chart && this.chart.spec.lines[0].label === spec.lines[0].label) this.chart.setSpec(spec);
    else {
      for (const old of this.figure.querySelectorAll(".plot, .readout, .tools, .table-view")) old.remove();
      this.chart = new Chart(this.figure, spec, { height: 220 });
    }
    this.figure.dataset.span = `${from}:${to}`;
  }
}

export async function showMeasures(box, src, ids, a, b) {
  if (a == null || b == null || a === b) { box.replaceChildren(); box.hidden = true; return; }
  const [from, to] = [Math.min(a, b), Math.max(a, b)];
  const answer = await fetch(`${src}?channels=${ids.join(",")}&from=${from}&to=${to}`).catch(() => null);
  box.hidden = false;
  if (!answer?.ok) { box.textContent = answer ? await answer.text() : "Nembrit does not respond."; return; }
  const { rows } = await answer.json();
  const head = document.createElement("p");
  head.className = "num";
  head.textContent = `Δt ${((to - from) * 1000).toFixed(2)} ms · 1/Δt ${text(1 / (to - from), "Hz")}`;
  const table = document.createElement("table");
  table.className = "table is-fullwidth small";
  table.append(row(["channel", "Δ", "RMS", "peak to peak"], "th"));
  for (const found of rows) {
    const name = `${found.name.replaceAll("_", " ")}${found.unit && found.unit !== "1" ? `, ${found.unit}` : ""}`;
    table.append(row([name, ...(found.reason ? [found.reason, "", ""] : [text(found.change), text(found.rms), text(found.peak_to_peak)])], "td"));
  }
  box.replaceChildren(head, table);
}

function row(cells, tag) {
  const tr = document.createElement("tr");
  cells.forEach((cell, k) => {
    const td = document.createElement(tag);
    td.textContent = cell;
    if (k) td.className = "num";
    tr.append(td);
  });
  return tr;
}
