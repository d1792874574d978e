// Takes the drawing calls of a canvas and keeps them as SVG: one drawing, two kinds of picture.
const escape = (words) => String(words).replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);
const short = (number) => Number(number.toFixed(2));

export class Pencil {
  parts = [];
  path = "";
  strokeStyle = "#000";
  fillStyle = "#000";
  lineWidth = 1;
  font = "12px Arial";

  scale() {}
  beginPath() { this.path = ""; }
  moveTo(x, y) { this.path += `M${short(x)} ${short(y)}`; }
  lineTo(x, y) { this.path += `L${short(x)} ${short(y)}`; }
  rect(x, y, width, height) { this.path += `M${short(x)} ${short(y)}h${short(width)}v${short(height)}h${short(-width)}z`; }
  arc(x, y, radius) { this.path += `M${short(x - radius)} ${short(y)}a${radius} ${radius} 0 1 0 ${2 * radius} 0a${radius} ${radius} 0 1 0 ${-2 * radius} 0z`; }
  fill() { this.parts.push(`<path d="${this.path}" fill="${escape(this.fillStyle)}"/>`); }
  fillRect(x, y, width, height) { this.parts.push(`<rect x="${short(x)}" y="${short(y)}" width="${short(width)}" height="${short(height)}" fill="${escape(this.fillStyle)}"/>`); }
  stroke() { this.parts.push(`<path d="${this.path}" fill="none" stroke="${escape(this.strokeStyle)}" stroke-width="${this.lineWidth}" stroke-linecap="round"/>`); }
  fillText(words, x, y) { this.parts.push(`<text x="${short(x)}" y="${short(y)}" style="font:${escape(`${this.font}, sans-serif`)}" fill="${escape(this.fillStyle)}">${escape(words)}</text>`); }

  svg(width, height, title, paper) {
    return `<svg xmlns="http://www.w3.org/2000/svg" width="${width}" height="${height}" viewBox="0 0 ${width} ${height}"><title>${escape(title)}</title><rect width="${width}" height="${height}" fill="${escape(paper)}"/>${this.parts.join("")}</svg>\n`;
  }
}
