// Map and traces of a plane's flight together: one cursor for both; places of obstacles are set on the map.
import { Chart } from "../common/charts/chart.js";
import { words } from "../common/charts/kit.js";
import { text, token, faded } from "../common/charts/style.js";
import { TrackView } from "../logs/trace/track.js";

const LOOKS = { leg: { width: 4, colour: "ink" }, turn: { width: 2, colour: "ink-2" }, circle: { width: 4, colour: "ink-2" }, return: { width: 5, colour: "ink" } };
const LABELS = { leg: "straight leg", turn: "turn", circle: "circle", return: "return home", rest: "between" };
const STEP_M = 5;

class PathMap extends TrackView {
  async load() {
    const answer = await fetch(this.src).catch(() => null);
    this.note.textContent = answer?.ok ? "" : answer ? await answer.text() : "Nembrit does not respond.";
    if (!answer?.ok) return;
    this.data = await answer.json();
    this.placed = [];
    this.told(null);
    this.draw();
    this.box.dataset.drawn = "1";
    document.dispatchEvent(new CustomEvent("nembrit:path", { detail: this.data }));
  }

  cursor(t) { super.cursor(t); this.told(t); }

  index(t) { const k = this.data.t.findIndex((one) => one != null && one >= t); return k < 0 ? this.data.t.length - 1 : k; }

  told(t) {
    const line = this.box.querySelector(".facts-line");
    if (t == null) { line.textContent = this.data.wind ? `Wind ${this.data.wind.words}.` : "Wind unknown."; return; }
    const k = this.index(t), { east, north, mode, modes } = this.data;
    const away = east[k] == null ? "" : `${text(Math.hypot(east[k], north[k]), "m")} from home`;
    line.textContent = [`${text(t, "s")}`, away, mode?.[k] == null ? "" : modes[mode[k]]].filter(Boolean).join(" · ");
  }

  scale() {
    const { obstacles } = this.data, own = this.data;
    const near = obstacles.flatMap((one) => one.places).filter(([e, n]) => Math.hypot(e, n) < 1500);
    this.data = { ...own, east: [...own.east, ...near.map(([e]) => e)], north: [...own.north, ...near.map(([, n]) => n)] };
    const to = super.scale();
    this.data = own;
    return to;
  }

  picture(ctx, to) {
    this.grid(ctx, to);
    for (const one of this.data.obstacles) this.obstacle(ctx, to, one);
    this.path(ctx, to);
    this.place(ctx, to, 0, 0, "home");
    this.arrow(ctx, to);
    this.places(ctx, to);
    if (this.at == null) return;
    const k = this.index(this.at);
    if (this.data.east[k] != null) this.place(ctx, to, this.data.east[k], this.data.north[k], "");
  }

  path(ctx, to) {
    const { t, east, north, parts } = this.data;
    const kind = new Array(t.length).fill("rest");
    for (const name of ["turn", "circle", "leg", "return"]) for (const part of parts.filter((one) => one.kind === name)) t.forEach((at, k) => { if (at >= part.from && at <= part.to && !(name === "return" && kind[k] === "circle")) kind[k] = name; });
    ctx.lineCap = "round";
    for (let k = 1; k < t.length; k++) {
      if (east[k] == null || east[k - 1] == null) continue;
      const look = LOOKS[kind[k]] ?? { width: 1.2, colour: "ink-2" };
      ctx.strokeStyle = token(look.colour);
      ctx.lineWidth = look.width;
      ctx.setLineDash(kind[k] === "rest" ? [3, 4] : []);
      ctx.beginPath();
      ctx.moveTo(to.x(east[k - 1]), to.y(north[k - 1]));
      ctx.lineTo(to.x(east[k]), to.y(north[k]));
      ctx.stroke();
    }
    ctx.setLineDash([]);
    this.legend.replaceChildren(...[...new Set(kind)].map((name) => {
      const chip = document.createElement("span"), line = document.createElement("i"), look = LOOKS[name] ?? { width: 1, colour: "ink-2" };
      line.style.background = token(look.colour);
      line.style.height = `${look.width}px`;
      chip.append(line, LABELS[name]);
      return chip;
    }));
  }

  obstacle(ctx, to, one) {
    const places = one.places.map(([e, n]) => [to.x(e), to.y(n)]);
    ctx.strokeStyle = token("caution");
    ctx.fillStyle = faded("caution", 0.2);
    ctx.lineWidth = 2;
    ctx.beginPath();
    if (one.kind === "Point") ctx.arc(places[0][0], places[0][1], 7, 0, 7);
    else places.forEach(([x, y], k) => (k ? ctx.lineTo(x, y) : ctx.moveTo(x, y)));
    if (one.kind === "Polygon") ctx.closePath();
    if (one.kind !== "LineString") ctx.fill();
    ctx.stroke();
    const [x, y] = places[0];
    words(ctx, `${one.name}, ${text(one.height_m)} m`, Math.min(x + 9, to.width - 90), y + 4, { colour: "ink" });
  }

  // where the wind blows from, and the way it goes
  arrow(ctx, to) {
    const { wind } = this.data;
    if (!wind) return;
    const way = ((wind.from_deg + 180) * Math.PI) / 180, x = to.width - 34, y = 46, dx = Math.sin(way), dy = -Math.cos(way);
    ctx.strokeStyle = token("ink");
    ctx.lineWidth = 2.5;
    ctx.beginPath();
    ctx.moveTo(x - 18 * dx, y - 18 * dy);
    ctx.lineTo(x + 18 * dx, y + 18 * dy);
    for (const side of [-1, 1]) { ctx.moveTo(x + 18 * dx, y + 18 * dy); ctx.lineTo(x + 9 * dx - 6 * side * dy, y + 9 * dy + 6 * side * dx); }
    ctx.stroke();
    words(ctx, "wind", x + 14, y + 34, { align: "right", colour: "ink" });
  }

  places(ctx, to) {
    ctx.strokeStyle = token("stop");
    ctx.lineWidth = 2;
    ctx.beginPath();
    this.placed.forEach(([e, n], k) => (k ? ctx.lineTo(to.x(e), to.y(n)) : ctx.moveTo(to.x(e), to.y(n))));
    ctx.stroke();
    for (const [e, n] of [...this.placed, ...(this.cross ? [this.cross] : [])]) {
      ctx.beginPath();
      ctx.moveTo(to.x(e) - 6, to.y(n)); ctx.lineTo(to.x(e) + 6, to.y(n)); ctx.moveTo(to.x(e), to.y(n) - 6); ctx.lineTo(to.x(e), to.y(n) + 6);
      ctx.stroke();
    }
  }
}

function marking(map, form) {
  const field = form.elements.places, kind = form.elements.kind, part = form.closest("details");
  const write = () => {
    const { latitude, longitude, east_per_deg: perLon, north_per_deg: perLat } = map.data.home;
    field.value = map.placed.map(([e, n]) => `${(latitude + n / perLat).toFixed(6)}, ${(longitude + e / perLon).toFixed(6)}`).join("\n");
    map.draw();
  };
  const add = (place) => { if (kind.value === "Point") map.placed = []; map.placed.push(place); if (part) part.open = true; write(); };
  map.canvas.addEventListener("click", (event) => {
    const box = map.canvas.getBoundingClientRect(), to = map.scale();
    add([(event.clientX - box.left - to.width / 2) / to.perMetre + to.cx, (to.height / 2 - (event.clientY - box.top)) / to.perMetre + to.cy]);
  });
  map.canvas.addEventListener("keydown", (event) => {
    const moves = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
    if (moves) { const by = event.shiftKey ? 10 * STEP_M : STEP_M, [e, n] = map.cross ?? [0, 0]; map.cross = [e + by * moves[0], n + by * moves[1]]; map.draw(); }
    else if (event.key === "Enter" && map.cross) add([...map.cross]);
    else return;
    event.preventDefault();
    event.stopPropagation();
    map.box.querySelector(".facts-line").textContent = `Cross ${text(map.cross[0])} m east, ${text(map.cross[1])} m north; ${map.placed.length} set`;
  });
  document.getElementById("mark-clear").addEventListener("click", () => { map.placed = []; map.cross = null; write(); });
}

const box = document.getElementById("path-map");
const map = box ? new PathMap(box, box.dataset.src) : null;
const form = document.getElementById("mark-form");
const figures = [...document.querySelectorAll("figure.chart[data-trace]")];
await map?.load();
if (map?.data && form) marking(map, form);
await Promise.all(figures.map(async (figure) => {
  const answer = await fetch(figure.dataset.trace);
  if (!answer.ok) { figure.querySelector(".plot").textContent = "This trace could not be loaded; the tables below still hold."; return; }
  const told = (t) => { map?.data && map.cursor(t); document.dispatchEvent(new CustomEvent("nembrit:path-at", { detail: t })); };
  figure.chart = new Chart(figure, await answer.json(), { height: Number(figure.dataset.height), sync: "path", onCursor: told });
}));
document.documentElement.dataset.charts = "drawn";
