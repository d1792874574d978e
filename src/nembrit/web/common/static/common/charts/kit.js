// What every picture of the workshop shares: its pens and words, its read-out, its tools, its table and its files.
import { Pencil } from "./pencil.js";
import { token } from "./style.js";

export const WORDS = '"Atkinson Hyperlegible Next Variable", sans-serif';
export const NUMBERS = '"Atkinson Hyperlegible Mono Variable", monospace';

export function element(tag, className = "", content = "") {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (content) made.textContent = content;
  return made;
}

// Calls `start` with the page, and again with every part of it that is swapped in later.
export function onContent(start) {
  start(document);
  document.addEventListener("nembrit:content", (event) => start(event.detail));
}

// A straight line in a token's colour; dashes and width in the pen's own pixels.
export function rule(ctx, x0, y0, x1, y1, { colour = "rule-2", width = 1, dash = [] } = {}) {
  ctx.strokeStyle = token(colour);
  ctx.lineWidth = width;
  ctx.setLineDash(dash);
  ctx.beginPath();
  ctx.moveTo(x0, y0);
  ctx.lineTo(x1, y1);
  ctx.stroke();
  ctx.setLineDash([]);
}

// Words or numbers of an axis.
export function words(ctx, text, x, y, { align = "left", colour = "ink-2", size = 12, family = WORDS } = {}) {
  ctx.fillStyle = token(colour);
  ctx.font = `${size}px ${family}`;
  ctx.textAlign = align;
  ctx.textBaseline = "alphabetic";
  ctx.fillText(text, x, y);
}

// The line under a picture that tells what is pointed at, also to a screen reader.
export function readoutOf(figure) {
  const readout = figure.querySelector(".readout") ?? figure.appendChild(element("div", "readout"));
  readout.setAttribute("aria-live", "polite");
  return readout;
}

// The row of buttons below a picture: a label and what it does, in order. With the keyboard a picture is one stop:
// `home` has the focus, Enter opens the menu, Escape comes back.
export function addTools(figure, title, offers, home = null) {
  const box = figure.querySelector(".tools") ?? figure.appendChild(element("div", "tools"));
  const buttons = offers.map(([label, action]) => {
    const button = element("button", "", label);
    button.type = "button";
    button.setAttribute("aria-label", `${label}: ${title}`);
    button.addEventListener("click", () => action(button));
    if (label === "Table") button.setAttribute("aria-expanded", "false");
    if (home) button.tabIndex = -1;
    return button;
  });
  const ofView = buttons.filter((button, k) => !TO_KEEP.has(offers[k][0]));
  const toKeep = buttons.filter((button, k) => TO_KEEP.has(offers[k][0]));
  box.prepend(...ofView, ...(toKeep.length ? [menu(title, toKeep, home)] : []));
}

// One menu a picture for its numbers and files, so that the picture itself stays what is seen.
const TO_KEEP = new Set(["Table", "CSV", "SVG", "PNG"]);
function menu(title, buttons, home) {
  const box = element("details", "menu"), summary = element("summary", "", "Save, table");
  summary.setAttribute("aria-label", `Save, table: ${title}`);
  const list = element("div");
  list.append(...buttons);
  const close = () => { box.open = false; (home ?? summary).focus(); };
  list.addEventListener("click", close);
  box.addEventListener("keydown", (event) => {
    const way = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (event.key === "Escape") close();
    else if (way) buttons[(buttons.indexOf(document.activeElement) + way + buttons.length) % buttons.length].focus();
    else return;
    event.preventDefault();
    event.stopPropagation();
  });
  if (home) {
    summary.tabIndex = -1;
    home.addEventListener("keydown", (event) => {
      if (event.key !== "Enter" || event.target !== home) return;
      event.preventDefault();
      box.open = true;
      buttons[0].focus();
    });
  }
  box.append(summary, list);
  return box;
}

// The numbers of a picture, for reading without it; a second press puts them away.
export function toggleTable(figure, button, title, rows) {
  const shown = figure.querySelector(".table-view");
  button.setAttribute("aria-expanded", String(!shown));
  if (shown) { shown.remove(); return; }
  const view = element("div", "table-view"), table = element("table", "table is-fullwidth");
  Object.assign(view, { tabIndex: 0 });
  view.setAttribute("role", "region");
  view.setAttribute("aria-label", `Values: ${title}`);
  const [head, ...body] = rows();
  const row = (parent, cells, tag) => { const tr = parent.insertRow(); cells.forEach((cell) => tr.append(element(tag, "num", String(cell)))); };
  row(table.createTHead(), head, "th");
  const part = table.createTBody();
  body.forEach((cells) => row(part, cells, "td"));
  view.append(table);
  figure.append(view);
}

export const csvOf = (rows) => rows.map((cells) => cells.map((cell) => (typeof cell === "string" ? `"${cell}"` : cell ?? "")).join(",")).join("\r\n") + "\r\n";

// Saved as SVG through the one writer: `paint(pen)` draws on it as on a canvas of width by height.
export function saveSvg(stem, title, width, height, paint, ratio = 1) {
  const pencil = new Pencil();
  paint(pencil);
  save(`${stem}.svg`, new Blob([pencil.svg(width, height, title, token("sheet"), ratio)], { type: "image/svg+xml" }));
}

// Saved as PNG, `scale` pixels to a unit of the drawing, on the sheet's colour.
export function savePng(stem, width, height, paint, scale = 2) {
  const canvas = document.createElement("canvas");
  Object.assign(canvas, { width: width * scale, height: height * scale });
  const ctx = canvas.getContext("2d");
  ctx.scale(scale, scale);
  ctx.fillStyle = token("sheet");
  ctx.fillRect(0, 0, width, height);
  paint(ctx);
  canvas.toBlob((blob) => save(`${stem}.png`, blob));
}

export function save(name, blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 5000);
}
