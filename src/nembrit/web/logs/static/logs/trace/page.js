// The trace page: which panes, which span, which cursors; the address bar holds all of it.
import { keysAreOn } from "../../common/keys.js";
import { fetchEnvelope } from "./data.js";
import { Panes } from "./panes.js";
import { SpectrumSide, showMeasures } from "./side.js";
import { followFingers } from "./touch.js";
import { TrackView } from "./track.js";
import { VideoSide } from "./video.js";

const view = document.getElementById("traces");
const page = JSON.parse(document.getElementById("trace-page").textContent);
const channels = new Map(page.channels.map((entry) => [entry.id, entry]));
const byLabel = new Map(page.channels.map((entry) => [entry.label, entry.id]));
const all = [page.from, page.to];
const byId = (id) => document.getElementById(id);
const LEAST_S = 0.002;
let state = null, request = 0;

const panes = new Panes(byId("panes"), channels, all, {
  range: (from, to) => go({ from, to }),
  place: (x, event) => go(event.shiftKey ? { b: x } : { a: x }),
  cursor: (x) => { cursor = x; track?.cursor(x); video.cursor(x); },
  remove: (k) => go({ panes: state.panes.filter((_, n) => n !== k), view: "" }),
});
const spectrum = new SpectrumSide(byId("spectrum"), view.dataset.spectrum);
const track = page.has_track ? new TrackView(byId("track"), view.dataset.track) : null;
let cursor = null;
const video = new VideoSide(byId("video"), page, {
  // the picture moves on: the cursor follows, and the view where it would leave it
  moved: (x) => {
    if (x > state.to || x < state.from) { const width = state.to - state.from; go({ from: x - 0.1 * width, to: x + 0.9 * width }, { remember: false }); }
    panes.point(x);
    track?.cursor(x);
  },
  show: (x) => around({ start: x - 0.5, end: x + 0.5 }),
  pixel_s: () => (state.to - state.from) / Math.max(200, byId("panes").clientWidth),
  moment: () => state.a ?? cursor ?? panes.here(),
  marked: () => { places.marker = markers(); lockKinds(); show(); },
});

// --- the state and the address

function fromAddress() {
  const given = new URLSearchParams(location.search);
  const number = (key, fallback) => (given.has(key) && Number.isFinite(Number(given.get(key))) ? Number(given.get(key)) : fallback);
  const named = (given.get("panes") ?? "").split("|").map((pane) => pane.split("~").map((label) => byLabel.get(label)).filter(Boolean)).filter((pane) => pane.length);
  const chosen = page.views.find((one) => one.key === given.get("view")) ?? page.views[0];
  const own = named.length ? named : chosen?.panes ?? (page.channels.length ? [[page.channels[0].id]] : []);
  return { from: number("from", all[0]), to: number("to", all[1]), panes: own, view: named.length ? "" : chosen?.key ?? "", a: number("a", null), b: number("b", null), spectrum: byLabel.get(given.get("spectrum")) ?? null };
}

function address() {
  const { from, to, view: chosen, a, b } = state;
  const put = new URLSearchParams({ from: from.toFixed(4), to: to.toFixed(4) });
  if (chosen) put.set("view", chosen);
  else put.set("panes", state.panes.map((ids) => ids.map((id) => channels.get(id).label).join("~")).join("|"));
  if (a != null) put.set("a", a.toFixed(5));
  if (b != null) put.set("b", b.toFixed(5));
  if (state.spectrum) put.set("spectrum", channels.get(state.spectrum).label);
  return `?${put}`;
}

async function go(change, { remember = true } = {}) {
  const before = state;
  state = { ...state, ...change };
  const width = Math.max(LEAST_S, Math.min(all[1] - all[0], state.to - state.from));
  const from = Math.min(Math.max(all[0], state.from), all[1] - width);
  Object.assign(state, { from, to: from + width });
  // one gesture is one step back, with the page's button or the browser's
  if (before && remember && address() === location.search) return;
  const step = window.history.state?.step ?? 0;
  if (!before) window.history.replaceState({ step }, "", address());
  else if (remember) window.history.pushState({ step: step + 1 }, "", address());
  if (!before || key(state.panes) !== key(before.panes)) panes.set(state.panes);
  await show();
}

const key = (lists) => lists.map((ids) => ids.join()).join("|");
window.addEventListener("popstate", () => go(fromAddress(), { remember: false }));

async function show() {
  const mine = ++request;
  const { from, to } = state;
  const failure = byId("trace-error");
  tell();
  try {
    const envelope = panes.ids.length ? await fetchEnvelope(view.dataset.src, panes.ids, from, to, Math.max(200, Math.round(byId("panes").clientWidth))) : new Map();
    if (mine !== request) return; // a newer view is on its way
    failure.hidden = true;
    const cursors = [["A", state.a], ["B", state.b]].filter(([, x]) => x != null).map(([label, x]) => ({ label, x }));
    for (const [k, mark] of page.marks.entries()) if (mark.at >= from && mark.at <= to) cursors.push({ label: `m${k + 1}`, x: mark.at });
    await panes.draw(envelope, [from, to], cursors, outside(from, to));
  } catch (error) {
    failure.hidden = false;
    failure.textContent = error.message;
  }
  if (mine !== request) return;
  spectrum.follow(state.spectrum, from, to);
  showMeasures(byId("measures"), view.dataset.measures, panes.ids, state.a, state.b);
  document.documentElement.dataset.charts = "drawn";
  document.documentElement.dataset.shown = `${from.toFixed(4)}:${to.toFixed(4)}`;
}

// what lies outside the usable window is shaded
const outside = (from, to) => [[from, page.window[0]], [page.window[1], to]].filter(([a, b]) => b > a).map(([start, end]) => ({ start, end, label: "" }));

function tell() {
  const { from, to } = state;
  view.dataset.shows = state.view;
  byId("spectrum-channel").value = String(state.spectrum ?? "");
  byId("trace-span").textContent = `${from.toFixed(3)} to ${to.toFixed(3)} s`;
  for (const button of document.querySelectorAll("[data-view]")) button.setAttribute("aria-pressed", String(button.dataset.view === state.view));
  const strip = byId("strip"), perSecond = strip.clientWidth / (to - from);
  const narrow = []; // what a band has no room for is numbered, and named in a line below
  strip.replaceChildren();
  for (const span of page.manoeuvres) {
    const left = Math.max(span.start, from), right = Math.min(span.end, to);
    if (right <= left) continue;
    const name = `${span.kind.replaceAll("_", " ")}${span.axis ? ` ${span.axis}` : ""}`, width = (right - left) * perSecond;
    const isWide = width >= 24; // too narrow to press: shown only, jumping reaches it
    const button = document.createElement(isWide ? "button" : "span");
    if (isWide) button.type = "button";
    button.title = `${name}, ${span.start.toFixed(2)} to ${span.end.toFixed(2)} s`;
    if (width >= 7 * name.length + 12) button.textContent = name;
    else {
      narrow.push(name);
      if (width >= 12) button.textContent = String(narrow.length);
      if (isWide) button.setAttribute("aria-label", `${narrow.length} ${name}`);
    }
    button.style.left = `${(100 * (left - from)) / (to - from)}%`;
    button.style.width = `${(100 * (right - left)) / (to - from)}%`;
    if (isWide) button.addEventListener("click", () => around(span));
    strip.append(button);
  }
  byId("strip-legend").textContent = narrow.map((name, k) => `${k + 1} ${name}`).join(" · ");
}

// --- moving about

const around = (span) => { const room = Math.max(0.15, 0.25 * (span.end - span.start)); go({ from: span.start - room, to: span.end + room }); video.seek(span.start); };
const pan = (share) => { const width = state.to - state.from; go({ from: state.from + share * width, to: state.to + share * width }); };
const zoom = (factor) => { const at = panes.here(); go({ from: at - (at - state.from) * factor, to: at + (state.to - at) * factor }); };
const back = () => { if (window.history.state?.step > 0) window.history.back(); };
const markers = () => [...page.markers, ...page.marks].sort((one, other) => one.at - other.at).map((marker) => ({ start: marker.at - 0.5, end: marker.at + 0.5 }));
const places = { manoeuvre: page.manoeuvres, gap: page.gaps, marker: markers() };

function jump(way) {
  const known = places[byId("jump-kind").value], middle = (state.from + state.to) / 2;
  const centre = (span) => (span.start + span.end) / 2;
  const found = way > 0 ? known.find((span) => centre(span) > middle + 1e-3) : known.findLast((span) => centre(span) < middle - 1e-3);
  byId("jump-note").textContent = found ? "" : `No ${byId("jump-kind").value} ${way > 0 ? "after" : "before"} this.`;
  if (found) around(found);
}

const actions = {
  "trace-left": () => pan(-0.5), "trace-right": () => pan(0.5), "trace-in": () => zoom(0.5), "trace-out": () => zoom(2), "trace-back": back, "trace-all": () => go({ from: all[0], to: all[1] }),
  "jump-before": () => jump(-1), "jump-next": () => jump(1), "cursor-a": () => go({ a: cursor ?? panes.here() }), "cursor-b": () => go({ b: cursor ?? panes.here() }), "cursor-none": () => go({ a: null, b: null }),
};
for (const [id, action] of Object.entries(actions)) byId(id).addEventListener("click", action);
for (const button of document.querySelectorAll("[data-view]")) {
  button.addEventListener("click", () => go({ view: button.dataset.view, panes: page.views.find((one) => one.key === button.dataset.view).panes }));
}
function lockKinds() { for (const kind of ["gap", "marker", "manoeuvre"]) byId("jump-kind").querySelector(`[value=${kind}]`).disabled = !places[kind].length; }
lockKinds();

byId("add-form").addEventListener("submit", (event) => {
  event.preventDefault();
  const wanted = byId("add-channel").value.trim().toLowerCase();
  const entry = page.channels.find((one) => [one.name, one.label].some((name) => name.toLowerCase() === wanted)) ?? page.channels.find((one) => `${one.name} ${one.label}`.toLowerCase().includes(wanted));
  byId("add-note").textContent = entry && wanted ? "" : "No channel is called so.";
  if (!entry || !wanted) return;
  const where = byId("add-where").value;
  const lists = where === "new" ? [...state.panes, [entry.id]] : state.panes.map((ids, k) => (k === state.panes.length - 1 ? [...new Set([...ids, entry.id])] : ids));
  byId("add-channel").value = "";
  go({ panes: lists, view: "" });
});
byId("spectrum-channel").addEventListener("change", (event) => go({ spectrum: Number(event.target.value) || null }));
byId("track-colour")?.addEventListener("change", (event) => track.load(Number(event.target.value) || null));

document.addEventListener("keydown", (event) => {
  if (!keysAreOn() || event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, dialog")) return;
  const keys = { "[": () => pan(-0.5), "]": () => pan(0.5), a: actions["cursor-a"], s: actions["cursor-b"], ",": () => jump(-1), ".": () => jump(1) };
  if (keys[event.key]) { event.preventDefault(); keys[event.key](); }
});
followFingers(byId("panes"), panes, () => [state.from, state.to], (from, to) => go({ from, to }));

await Promise.all(["12px 'Atkinson Hyperlegible Next Variable'", "12px 'Atkinson Hyperlegible Mono Variable'"].map((font) => document.fonts.load(font)));
go(fromAddress());
track?.load(null);
