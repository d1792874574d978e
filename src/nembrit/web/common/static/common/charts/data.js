// From a chart specification to the aligned columns that the plotting library wants, and to tables.
import { meant } from "./style.js";
import uPlot from "../../vendor/uplot-1.6.32/uPlot.esm.js";

// Columns: x, then for each line its y and, where it has an area, low and high.
export function columns(spec) {
  const tables = spec.lines.map((line) => [line.x, line.y, ...(line.low ? [line.low, line.high] : [])]);
  const shared = spec.lines.every((line) => line.x === spec.lines[0].x || (line.x.length === spec.lines[0].x.length && line.x.every((x, k) => x === spec.lines[0].x[k])));
  if (shared && tables.length) return [tables[0][0], ...tables.flatMap((table) => table.slice(1))];
  return tables.length ? uPlot.join(tables) : [[]];
}

// Where each line's columns stand in the result of `columns`.
export function places(spec) {
  let at = 1;
  return spec.lines.map((line) => {
    const place = { y: at, low: line.low ? at + 1 : null, high: line.low ? at + 2 : null };
    at += line.low ? 3 : 1;
    return place;
  });
}

export function headers(spec) {
  const name = (line, part) => `${line.label}${part} [${spec.y.unit}]`;
  return [
    `${spec.x.label} [${spec.x.unit}]`,
    ...spec.lines.flatMap((line) => [name(line, ""), ...(line.low ? [name(line, ", low"), name(line, ", high")] : [])]),
  ];
}

export function csv(spec) {
  const data = columns(spec);
  const rows = data[0].map((_, k) => data.map((column, n) => meant(n ? spec.y : spec.x, column[k]) ?? "").join(","));
  return [headers(spec).map((cell) => `"${cell}"`).join(","), ...rows].join("\r\n") + "\r\n";
}

// Range of y within a range of x, with room for labels.
export function yRange(spec, data, xMin, xMax) {
  if (spec.y.low != null && spec.y.high != null) return [spec.y.low, spec.y.high];
  let low = Infinity, high = -Infinity;
  for (let column = 1; column < data.length; column++) {
    for (let k = 0; k < data[0].length; k++) {
      const y = data[column][k];
      if (data[0][k] < Math.max(xMin, spec.y.from_x ?? -Infinity) || data[0][k] > xMax || y == null || Number.isNaN(y)) continue;
      if (y < low) low = y;
      if (y > high) high = y;
    }
  }
  if (low > high) return [0, 1];
  if (spec.y.unit.startsWith("dB")) low = Math.max(low, high - 75);
  const room = (high - low || Math.abs(high) || 1) * 0.1;
  return [spec.y.low ?? low - room * 0.5, spec.y.high ?? high + room * 1.6];
}
