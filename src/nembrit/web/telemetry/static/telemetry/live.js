// The live page: newest values large, rolling traces of fixed memory, a map, alarms that sound, markers by one tap.
const page = document.getElementById("live");
const spec = JSON.parse(document.getElementById("live-spec").textContent);
const token = document.querySelector("#live-form [name=csrfmiddlewaretoken]")?.value ?? "";

const KEPT = 24_000; // samples a channel: ten minutes at 40 a second

class Ring {
  constructor() {
    this.t = new Float64Array(KEPT);
    this.v = new Float32Array(KEPT);
    this.n = 0;
  }
  add(t, v) {
    const at = this.n % KEPT;
    this.t[at] = t;
    this.v[at] = v;
    this.n += 1;
  }
  since(from, use) {
    for (let k = Math.max(0, this.n - KEPT); k < this.n; k += 1) {
      const at = k % KEPT;
      if (this.t[at] >= from) use(this.t[at], this.v[at]);
    }
  }
}

const rings = new Map();
const path = { north: new Ring(), east: new Ring() };
const boxes = new Map([...page.querySelectorAll(".live-values [data-key]")].map((box) => [box.dataset.key, box]));
const chooser = document.getElementById("live-channel");
const trace = document.getElementById("live-trace");
const map = document.getElementById("live-map");
let newest = 0;
let apart = 0; // this browser's clock against the server's [s]
let heard = 0;
const on = new Map();

function show(values) {
  for (const [key, value] of Object.entries(values)) {
    const box = boxes.get(key);
    if (!box) continue;
    box.hidden = false;
    const text = box.dataset.text ? String(value) : (value * Number(box.dataset.factor)).toFixed(Number(box.dataset.places));
    const shown = box.querySelector("b");
    if (shown.textContent !== text) shown.textContent = text;
  }
}

function packNote(values) {
  const place = document.getElementById("live-pack");
  if (!("battery_current" in values)) return;
  const words = values.pack_note ?? "";
  if (place.textContent !== words) place.textContent = words;
  place.hidden = !words;
  if (!("minutes_left" in values)) {
    for (const key of ["minutes_left", "energy_margin"]) if (!(key in values)) boxes.get(key).hidden = true;
  }
}

function cell(kind, words) {
  return Object.assign(document.createElement(kind), { textContent: words });
}

function showNoise(noise) {
  const room = document.getElementById("live-noise");
  room.hidden = !noise?.length;
  document.getElementById("live-slow").hidden = !room.hidden;
  if (room.hidden) return;
  const bands = noise[0].bands.map(([low, high]) => `${low.toFixed(0)} to ${high.toFixed(0)} Hz`);
  room.querySelector("thead tr").replaceChildren(...["axis", ...bands, "oscillation"].map((words) => cell("th", words)));
  room.querySelector("tbody").replaceChildren(...noise.map((one) => {
    const row = document.createElement("tr");
    const line = one.line_hz === null ? "none" : `${one.line_hz.toFixed(1)} Hz, ${one.line_dps.toFixed(0)} deg/s`;
    row.append(cell("th", one.axis), ...one.bands.map((band) => cell("td", band[2].toFixed(1))), cell("td", line));
    return row;
  }));
}

function take(t, values) {
  newest = Math.max(newest, t);
  for (const [key, value] of Object.entries(values)) {
    if (typeof value !== "number" || key === "time" || key === "counter") continue;
    if (key === "north_m") path.north.add(t, value);
    else if (key === "east_m") path.east.add(t, value);
    else {
      if (!rings.has(key)) offer(key);
      rings.get(key).add(t, value);
    }
  }
}

function offer(key) {
  rings.set(key, new Ring());
  const box = boxes.get(key);
  const option = new Option(box ? box.querySelector("dt").textContent : key.replaceAll(/[._]/g, " "), key);
  chooser.add(option);
  if (key === "cell_v") chooser.value = key;
}

// --- drawing

function fitted(canvas, height) {
  const ratio = window.devicePixelRatio || 1;
  const width = canvas.clientWidth;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const pen = canvas.getContext("2d");
  pen.setTransform(ratio, 0, 0, ratio, 0, 0);
  pen.clearRect(0, 0, width, height);
  return [pen, width, height];
}

function ink(name) {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

function drawTrace() {
  const ring = rings.get(chooser.value);
  const [pen, width, height] = fitted(trace, 180);
  if (!ring || !ring.n) return;
  const span = Number(document.getElementById("live-span").value);
  const end = Math.max(newest, Date.now() / 1000 + apart);
  let low = Infinity;
  let high = -Infinity;
  ring.since(end - span, (t, v) => {
    low = Math.min(low, v);
    high = Math.max(high, v);
  });
  if (low > high) return;
  const box = boxes.get(chooser.value);
  const factor = box ? Number(box.dataset.factor) : 1;
  const room = Math.max((high - low) * 0.1, Math.abs(high) * 0.01, 1e-3);
  const y = (v) => height - 18 - ((v - low + room) / (high - low + 2 * room)) * (height - 30);
  const x = (t) => 46 + ((t - end + span) / span) * (width - 54);
  pen.font = `12px ${ink("--mono") || "monospace"}`;
  pen.fillStyle = ink("--ink-2");
  pen.fillText((high * factor).toPrecision(4), 2, y(high) + 4);
  pen.fillText((low * factor).toPrecision(4), 2, y(low) + 4);
  pen.fillText(`${span} s`, 46, height - 4);
  pen.fillText("now", width - 30, height - 4);
  pen.strokeStyle = ink("--roll");
  pen.lineWidth = 1.6;
  pen.beginPath();
  let last = -Infinity;
  ring.since(end - span, (t, v) => {
    if (t - last > 2) pen.moveTo(x(t), y(v));
    else pen.lineTo(x(t), y(v));
    last = t;
  });
  pen.stroke();
}

function drawMap() {
  const n = Math.min(path.north.n, path.east.n);
  if (!n) return;
  map.hidden = false;
  const [pen, width, height] = fitted(map, 260);
  let reach = 30;
  path.north.since(newest - 600, (t, v) => { reach = Math.max(reach, Math.abs(v)); });
  path.east.since(newest - 600, (t, v) => { reach = Math.max(reach, Math.abs(v)); });
  const scale = (Math.min(width, height) / 2 - 14) / reach;
  const place = (k) => [width / 2 + path.east.v[k % KEPT] * scale, height / 2 - path.north.v[k % KEPT] * scale];
  pen.strokeStyle = ink("--ink-2");
  pen.lineWidth = 1.4;
  pen.beginPath();
  for (let k = Math.max(0, n - 3000); k < n; k += 1) pen.lineTo(...place(k));
  pen.stroke();
  pen.fillStyle = ink("--ink");
  pen.fillText("home", width / 2 + 5, height / 2 - 5);
  pen.fillRect(width / 2 - 2, height / 2 - 2, 4, 4);
  pen.fillStyle = ink("--roll");
  pen.beginPath();
  pen.arc(...place(n - 1), 5, 0, 7);
  pen.fill();
  pen.fillStyle = ink("--ink-2");
  pen.fillText(`${Math.round(reach)} m`, 6, height - 8);
}

function tell() {
  const age = newest ? Math.max(0, Date.now() / 1000 + apart - newest) : null;
  const words = age === null ? "waiting for data" : age < 2 ? "receiving" : `last value ${age < 90 ? `${age.toFixed(0)} s` : `${(age / 60).toFixed(0)} min`} ago`;
  const shown = document.getElementById("live-age");
  if (shown && shown.textContent !== words) shown.textContent = words;
  page.querySelector(".live-values")?.classList.toggle("is-old", age !== null && age > 2);
}

function draw() {
  if (!document.hidden) {
    drawTrace();
    drawMap();
  }
  requestAnimationFrame(draw);
}

// --- alarms

let tones = null;

function sound(words) {
  if (!document.getElementById("live-sound")?.checked) return;
  navigator.vibrate?.([300, 120, 300]);
  try {
    tones ??= new AudioContext();
    const tone = tones.createOscillator();
    const loud = tones.createGain();
    loud.gain.value = 0.2;
    tone.frequency.value = 880;
    tone.connect(loud).connect(tones.destination);
    tone.start();
    tone.stop(tones.currentTime + 0.5);
  } catch {
    // no sound here: the words stand on the page
  }
  if ("speechSynthesis" in window) window.speechSynthesis.speak(new SpeechSynthesisUtterance(words));
}

function alarm(one) {
  const room = document.getElementById("live-alarms");
  if (one.kind === "acknowledged" || (one.kind === "alarm" && !one.is_on)) {
    on.get(one.key)?.remove();
    on.delete(one.key);
    return;
  }
  if (one.kind !== "alarm" || on.has(one.key)) return;
  const box = document.createElement("div");
  box.className = "notification is-danger";
  box.append(Object.assign(document.createElement("b"), { textContent: one.words }));
  const button = Object.assign(document.createElement("button"), { type: "button", className: "button", textContent: "Acknowledge" });
  button.addEventListener("click", () => post(page.dataset.acknowledge, { key: one.key }));
  box.append(button);
  room.append(box);
  on.set(one.key, box);
  if (Date.now() / 1000 + apart - one.at_s < 10) sound(one.words);
}

function post(address, values) {
  const body = new URLSearchParams(values);
  return fetch(address, { method: "POST", headers: { "X-CSRFToken": token }, body });
}

for (const button of page.querySelectorAll(".live-marks [data-what]")) {
  button.addEventListener("click", async () => {
    const answer = await post(page.dataset.mark, { what: button.dataset.what });
    document.getElementById("live-marked").textContent = answer.ok ? `Marked: ${button.dataset.what}` : "Not marked: not recording";
  });
}

// --- the stream

function listen() {
  const source = new EventSource(page.dataset.stream);
  source.addEventListener("rows", (event) => {
    const { rows } = JSON.parse(event.data);
    for (const [t, values] of rows) take(t, values);
    if (rows.length) {
      show(Object.assign({}, ...rows.map(([, values]) => values)));
      packNote(rows.findLast(([, values]) => "battery_current" in values)?.[1] ?? {});
    }
    heard = performance.now();
  });
  source.addEventListener("event", (event) => alarm(JSON.parse(event.data)));
  source.addEventListener("state", (event) => {
    const state = JSON.parse(event.data);
    apart = state.now_s - Date.now() / 1000;
    showNoise(state.noise);
    const lost = state.dropped ? `, ${state.dropped} lost` : "";
    const rate = Math.round(state.rate_hz ?? 0);
    document.getElementById("live-state").textContent =
      state.problem || `${rate} line${rate === 1 ? "" : "s"} a second, ${state.rows ?? 0} in all${lost}${state.garbage ? `, ${state.garbage} unreadable` : ""}`;
  });
  source.addEventListener("over", () => source.close());
  window.addEventListener("pagehide", () => source.close());
}

if (page.dataset.going === "1") {
  listen();
  requestAnimationFrame(draw);
  setInterval(tell, 250);
}
