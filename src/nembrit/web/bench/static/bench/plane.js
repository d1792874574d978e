// A plane from behind and from above, its surfaces where the log had them at one moment.
import { text } from "../common/charts/style.js";

const SVG = "http://www.w3.org/2000/svg", FULL = 22;
// role → where the surface sits from above, and which way up it goes for a positive deflection (right, nose up, nose right)
const PLACES = {
  aileron: [[-72, -6, 40, 10, -1], [72, -6, 40, 10, 1]], elevator: [[0, 74, 50, 10, 1]], rudder: [[0, 52, 6, 26, 0]], flap: [[30, -6, 26, 10, -1]],
  v_tail_left: [[-22, 70, 32, 10, 1]], v_tail_right: [[22, 70, 32, 10, 1]], elevon_left: [[-58, 18, 60, 11, 1]], elevon_right: [[58, 18, 60, 11, 1]],
};

const figure = document.getElementById("plane");
if (figure) start(figure);

function draw(parent, tag, attributes, content = "") {
  const made = document.createElementNS(SVG, tag);
  for (const [name, value] of Object.entries(attributes)) made.setAttribute(name, value);
  if (content) made.textContent = content;
  parent.append(made);
  return made;
}

async function start(box) {
  const answer = await fetch(box.dataset.src).catch(() => null);
  if (!answer?.ok) { box.querySelector("figcaption").textContent = "The log does not say how the plane lay."; return; }
  const data = await answer.json(), surfaces = JSON.parse(document.getElementById("plane-surfaces").textContent);
  const roles = new Set(surfaces.map((one) => one.role));
  const behind = frame(box.querySelector(".behind"), roles), above = planform(box.querySelector(".above"), roles, surfaces);
  const slider = document.getElementById("plane-time"), told = document.getElementById("plane-told"), play = document.getElementById("plane-play");
  slider.min = data.t[0];
  slider.max = data.t[data.t.length - 1];
  const show = () => {
    const k = Math.max(0, data.t.findIndex((t) => t >= Number(slider.value)));
    const bank = data.bank?.[k] ?? 0, pitch = data.pitch?.[k] ?? 0;
    behind.setAttribute("transform", `translate(0 ${-Math.max(-30, Math.min(30, pitch))}) rotate(${bank})`);
    const spoken = above(data.servos, k);
    told.textContent = [text(data.t[k], "s"), data.mode?.[k] == null ? "" : data.modes[data.mode[k]], `bank ${text(bank)}°`, `nose ${text(pitch)}°`, ...spoken].filter(Boolean).join(" · ");
  };
  slider.value = data.t[0];
  slider.addEventListener("input", show);
  let timer = null;
  play.addEventListener("click", () => {
    timer = timer ? clearInterval(timer) : setInterval(() => {
      if (Number(slider.value) >= Number(slider.max)) play.click();
      else { slider.value = Number(slider.value) + 0.4; show(); }
    }, 200);
    timer ??= null;
    play.setAttribute("aria-pressed", String(Boolean(timer)));
    play.textContent = timer ? "Stop" : "Play";
  });
  show();
  box.dataset.drawn = "1";
}

function frame(svg, roles) {
  draw(svg, "line", { x1: -110, x2: 110, y1: 0, y2: 0, class: "horizon" });
  const plane = draw(svg, "g", {});
  draw(plane, "path", { d: "M-92 -6 L-6 2 L6 2 L92 -6", class: "wing" });
  draw(plane, "circle", { r: 8, class: "body" });
  const tail = roles.has("v_tail_left") ? "M-24 -26 L0 -2 L24 -26" : roles.has("elevon_left") ? "M-92 -22 V-6 M92 -22 V-6" : "M0 -2 V-34 M-24 -34 H24";
  draw(plane, "path", { d: tail, class: "wing" });
  return plane;
}

function planform(svg, roles, surfaces) {
  const isWing = roles.has("elevon_left");
  draw(svg, "path", { d: isWing ? "M0 -40 L96 12 L96 24 L0 10 L-96 24 L-96 12 Z" : "M-96 -14 H96 V-1 H-96 Z M-5 -52 Q0 -62 5 -52 L3 80 H-3 Z", class: "wing" });
  if (!isWing) draw(svg, "path", { d: roles.has("v_tail_left") ? "M-40 64 L0 58 L40 64 V75 H-40 Z" : "M-27 66 H27 V79 H-27 Z", class: "wing" });
  const counts = {}, bars = [];
  for (const one of surfaces) {
    const places = PLACES[one.role] ?? [], own = places[Math.min(counts[one.role] ?? 0, places.length - 1)];
    counts[one.role] = (counts[one.role] ?? 0) + 1;
    if (!own) continue;
    const [x, y, width, height, up] = own;
    draw(svg, "rect", { x: x - width / 2, y, width, height, class: "surface" });
    bars.push({ one, up: up || 1, sideways: up === 0, x, y, bar: draw(svg, "rect", { x: x - 4, y, width: 8, height: 0, class: "moved" }) });
    draw(svg, "text", { x, y: y + height + 10, class: "label" }, `${one.servo}`);
  }
  return (servos, k) => bars.map(({ one, up, sideways, x, y, bar }) => {
    const moved = servos[one.servo]?.[k];
    if (moved == null) return "";
    const shown = Math.max(-1, Math.min(1, (Math.abs(moved) < 0.2 ? 5 : 1) * moved)) * up, size = Math.abs(shown) * FULL;
    if (sideways) { bar.setAttribute("x", shown > 0 ? x : x - size); bar.setAttribute("width", size); bar.setAttribute("height", 8); bar.setAttribute("y", y); }
    else { bar.setAttribute("height", size); bar.setAttribute("y", shown > 0 ? y - size : y); }
    return `${one.servo}: ${text(100 * moved)} %`;
  });
}
