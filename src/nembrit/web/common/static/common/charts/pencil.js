// Takes the drawing calls of a canvas and keeps them as SVG: one drawing, two kinds of picture, one writer of SVG.
const escape = (words) => String(words).replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);
const short = (number) => Number(number.toFixed(2));
const ANCHORS = { center: "middle", right: "end", end: "end" };
const STATE = ["strokeStyle", "fillStyle", "lineWidth", "font", "textAlign", "textBaseline", "lineCap", "dash", "turn", "open"];
const ruler = document.createElement("canvas").getContext("2d");

export class Pencil {
  parts = [];
  path = "";
  kept = [];
  strokeStyle = "#000";
  fillStyle = "#000";
  lineWidth = 1;
  font = "12px sans-serif";
  textAlign = "left";
  textBaseline = "alphabetic";
  lineCap = "butt";
  dash = [];
  turn = "";
  open = 0; // groups of this state that are not closed yet
  clips = 0;

  save() { this.kept.push(Object.fromEntries(STATE.map((name) => [name, this[name]]))); this.open = 0; }
  restore() { this.parts.push("</g>".repeat(this.open)); Object.assign(this, this.kept.pop()); }
  setLineDash(dash) { this.dash = dash; }
  translate(x, y) { this.turn += `translate(${short(x)} ${short(y)})`; }
  rotate(angle) { this.turn += `rotate(${short((angle * 180) / Math.PI)})`; }

  beginPath() { this.path = ""; }
  moveTo(x, y) { this.path += `M${short(x)} ${short(y)}`; }
  lineTo(x, y) { this.path += `L${short(x)} ${short(y)}`; }
  closePath() { this.path += "z"; }
  rect(x, y, width, height) { this.path += `M${short(x)} ${short(y)}h${short(width)}v${short(height)}h${short(-width)}z`; }
  arc(x, y, radius) { this.path += `M${short(x - radius)} ${short(y)}a${radius} ${radius} 0 1 0 ${2 * radius} 0a${radius} ${radius} 0 1 0 ${-2 * radius} 0z`; }
  clip() {
    this.clips += 1;
    this.open += 1;
    this.parts.push(`<clipPath id="clip-${this.clips}"><path d="${this.path}"/></clipPath><g clip-path="url(#clip-${this.clips})">`);
  }

  fill() { this.parts.push(`<path d="${this.path}" fill="${escape(this.fillStyle)}"/>`); }
  fillRect(x, y, width, height) { this.beginPath(); this.rect(x, y, width, height); this.fill(); }
  strokeRect(x, y, width, height) { this.beginPath(); this.rect(x, y, width, height); this.stroke(); }
  stroke() {
    const dash = this.dash.length ? ` stroke-dasharray="${this.dash.join(" ")}"` : "";
    this.parts.push(`<path d="${this.path}" fill="none" stroke="${escape(this.strokeStyle)}" stroke-width="${this.lineWidth}" stroke-linecap="${this.lineCap}"${dash}/>`);
  }

  drawImage(canvas, x, y, width, height) {
    this.parts.push(`<image x="${short(x)}" y="${short(y)}" width="${short(width)}" height="${short(height)}" preserveAspectRatio="none" image-rendering="pixelated" href="${canvas.toDataURL("image/png")}"/>`);
  }

  measureText(words) { ruler.font = this.font; return ruler.measureText(words); }
  fillText(words, x, y) {
    const [, size, family] = /([\d.]+)px (.*)/.exec(this.font);
    const up = this.textBaseline === "bottom" ? 0.22 * Number(size) : 0;
    const anchor = ANCHORS[this.textAlign] ? ` text-anchor="${ANCHORS[this.textAlign]}"` : "";
    this.parts.push(`<text x="${short(x)}" y="${short(y - up)}"${this.turn ? ` transform="${this.turn}"` : ""} font-size="${size}" font-family="${escape(family.replaceAll('"', "'"))}"${anchor} fill="${escape(this.fillStyle)}">${escape(words)}</text>`);
  }

  // shown `ratio` times smaller than it was drawn, as a canvas is on a fine screen
  svg(width, height, title, paper, ratio = 1) {
    return `<svg xmlns="http://www.w3.org/2000/svg" width="${short(width / ratio)}" height="${short(height / ratio)}" viewBox="0 0 ${width} ${height}"><title>${escape(title)}</title><rect width="${width}" height="${height}" fill="${escape(paper)}"/>${this.parts.join("")}</svg>\n`;
  }
}
