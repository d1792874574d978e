// The same picture as an SVG file: axes, bands, areas, lines and labels in the page's present colours.
import { labelPlaces } from "./layers.js";
import { faded, lookOf, meant, tick, token } from "./style.js";

const escape = (text) => String(text).replace(/[&<>"]/g, (c) => ({ "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" })[c]);

export function svgOf(u, spec, places) {
  const ratio = devicePixelRatio;
  const box = { left: u.bbox.left / ratio, top: u.bbox.top / ratio, width: u.bbox.width / ratio, height: u.bbox.height / ratio };
  const x = (value) => box.left + u.valToPos(value, "x");
  const y = (value) => box.top + u.valToPos(value, "y");
  const visible = u.data[0].map((value, k) => k).filter((k) => u.data[0][k] >= u.scales.x.min && u.data[0][k] <= u.scales.x.max);
  const points = (column, order = visible) => order.filter((k) => column[k] != null && !Number.isNaN(column[k])).map((k) => `${x(u.data[0][k]).toFixed(2)},${y(column[k]).toFixed(2)}`).join(" ");
  const parts = [`<rect width="100%" height="100%" fill="${token("sheet")}"/>`];
  spec.bands.forEach((band, k) => {
    const from = Math.max(band.start, u.scales.x.min), to = Math.min(band.end, u.scales.x.max);
    if (from < to) parts.push(`<rect x="${x(from)}" y="${box.top}" width="${x(to) - x(from)}" height="${box.height}" fill="${band.is_marked ? token("mark-wash") : token(k % 2 ? "band-2" : "band-1")}"/>`);
  });
  for (const [axis, values] of [["x", u.axes[0]._splits], ["y", u.axes[1]._splits]]) {
    for (const value of values ?? []) {
      if (value == null || value < u.scales[axis].min || value > u.scales[axis].max) continue;
      const at = axis === "x" ? x(value) : y(value);
      parts.push(axis === "x"
        ? `<text x="${at}" y="${box.top + box.height + 16}" text-anchor="middle">${tick(meant(spec.x, value))}</text>`
        : `<path d="M${box.left} ${at}h${box.width}" stroke="${token("rule-2")}"/><text x="${box.left - 6}" y="${at + 4}" text-anchor="end">${tick(meant(spec.y, value))}</text>`);
    }
  }
  parts.push(`<text x="${box.left + box.width / 2}" y="${u.height - 4}" text-anchor="middle">${escape(axisLabel(spec.x))}</text>`);
  parts.push(`<text transform="translate(12 ${box.top + box.height / 2}) rotate(-90)" text-anchor="middle">${escape(axisLabel(spec.y))}</text>`);
  parts.push(`<clipPath id="c"><rect x="${box.left}" y="${box.top}" width="${box.width}" height="${box.height}"/></clipPath><g clip-path="url(#c)">`);
  if (spec.level != null) parts.push(`<path d="M${box.left} ${y(spec.level)}h${box.width}" stroke="${token("ink-2")}" stroke-dasharray="2 3"/>`);
  spec.lines.forEach((line, n) => {
    const look = lookOf(line), place = places[n];
    const back = [...visible].reverse();
    if (place.low != null) parts.push(`<polygon points="${points(u.data[place.high])} ${points(u.data[place.low], back)}" fill="${faded(look.colour, look.alpha ?? 0.2)}"/>`);
    if (look.fillDown) parts.push(`<polygon points="${box.left},${box.top + box.height} ${points(u.data[place.y])} ${box.left + box.width},${box.top + box.height}" fill="${faded(look.colour, look.alpha)}"/>`);
    parts.push(`<polyline points="${points(u.data[place.y])}" fill="none" stroke="${token(look.colour)}" stroke-width="${look.width}" ${look.dash ? `stroke-dasharray="${look.dash.join(" ")}"` : ""}/>`);
  });
  parts.push("</g>");
  for (const place of labelPlaces(u, spec, places)) {
    const anchor = place.align === "center" ? "middle" : "end";
    if (place.dot) parts.push(`<circle cx="${place.x / ratio}" cy="${place.y / ratio + 8}" r="2.5" fill="${token("ink")}"/>`);
    parts.push(`<text x="${place.x / ratio}" y="${place.y / ratio - 2}" text-anchor="${anchor}" fill="${token(place.colour)}">${escape(place.text)}</text>`);
  }
  return `<svg xmlns="http://www.w3.org/2000/svg" width="${u.width}" height="${u.height}" viewBox="0 0 ${u.width} ${u.height}" font-family="Atkinson Hyperlegible Next, sans-serif" font-size="12" fill="${token("ink-2")}"><title>${escape(spec.title)}</title>${parts.join("")}</svg>\n`;
}

export const axisLabel = (axis) => (axis.unit === "1" ? axis.label : `${axis.label}, ${axis.unit}`);
