// The field page: it holds card, timer and entries on the phone itself; the server may come and go.
const root = document.getElementById("field");
const page = JSON.parse(document.getElementById("field-page").textContent);
const KEY = `nembrit-outing-${page.key}`; // another workshop at this address has an outing of the same number
const RETRY_MS = 4000;
const held = load();

function load() {
  try {
    const kept = JSON.parse(localStorage.getItem(KEY) ?? "null");
    if (kept?.opened && Array.isArray(kept.taps)) return { refused: {}, ...kept };
  } catch { /* begun anew: what cannot be read helps nobody */ }
  return { opened: Date.now(), taps: [], sent: [], refused: {} };
}

// a phone whose clock is set anew in between: what moves against the steady clock is taken back
const MOST_MS = 3.9 * 3600 * 1000, SET_MS = 600000;
let seen = [Date.now(), performance.now()];
function now() {
  const [day, steady] = [Date.now(), performance.now()];
  const moved = day - seen[0] - (steady - seen[1]);
  seen = [day, steady];
  if (moved < -1000 || moved > SET_MS) held.opened += moved;
  return Math.max(0, (day - held.opened) / 1000);
}

// the same for a clock that was set while the page was closed: time goes on from the last tap
function reopened() {
  const last = held.taps.at(-1)?.at_s ?? 0;
  const since = Date.now() - held.opened;
  if (since < 1000 * last || since > MOST_MS) held.opened = Date.now() - 1000 * last - 1000;
}

const first = (kind) => held.taps.find((tap) => tap.kind === kind);
const mark = () => crypto.randomUUID?.() ?? [...crypto.getRandomValues(new Uint8Array(12))].map((byte) => byte.toString(16).padStart(2, "0")).join("");

// on the phone's storage first, then seen, then sent
function tap(kind, data = {}) {
  held.taps.push({ uid: mark(), kind, at_s: Math.round(now() * 1000) / 1000, data });
  localStorage.setItem(KEY, JSON.stringify(held));
  show();
  send();
}

function state() {
  if (first("after")) return "done";
  if (first("landed")) return "after";
  if (first("bad_sign") || step() >= page.steps.length) return "landing";
  return first("take_off") ? "flying" : "before";
}

const step = () => held.taps.filter((one) => one.kind === "next").length;

function show() {
  const at = state();
  root.dataset.state = at;
  for (const section of root.querySelectorAll("[data-in]")) section.hidden = section.dataset.in !== at;
  const own = page.steps[step()];
  if (own) {
    text("step-title", own.name);
    text("step-how", own.how);
    text("step-watch", [own.watch && `Watch: ${own.watch}.`, own.listen && `Listen ${own.listen}.`].filter(Boolean).join(" "));
  }
  const marker = held.taps.findLast?.((one) => one.kind === "marker");
  text("last", marker ? `${marker.data.what}, at ${clock(marker.at_s - first("take_off").at_s)}` : "");
  told();
  tick();
}

function text(id, words) {
  const element = document.getElementById(id);
  if (element.textContent !== words) element.textContent = words;
}

const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(Math.floor(seconds) % 60).padStart(2, "0")}`;

function tick() {
  document.getElementById("old").hidden = now() * 1000 < MOST_MS;
  const start = first("take_off");
  if (!start || root.dataset.state !== "flying") return;
  const since = held.taps.filter((one) => one.kind === "next").at(-1) ?? start;
  const left = Math.ceil((page.steps[step()]?.seconds ?? 0) - (now() - since.at_s));
  text("clock", clock(now() - start.at_s));
  text("left", left > 0 ? `${left} s left` : "next");
}

const unsent = () => held.taps.filter((one) => !held.sent.includes(one.uid) && !(one.uid in held.refused));

function told() {
  const n = unsent().length;
  text("unsent", n ? `${n} on this phone only` : held.taps.length ? "all sent" : "");
  const aside = held.taps.filter((one) => one.uid in held.refused);
  document.getElementById("aside").hidden = !aside.length;
  text("aside", aside.map((one) => `Set aside: ${one.data.what ?? one.data.note ?? one.kind.replace("_", " ")} (${held.refused[one.uid]}).`).join(" "));
  text("done-told", n ? "It is sent as soon as the workshop answers; leave this page open, or come back to it." : "All of it is at the bench, too.");
}

let sending = false;
async function send() {
  const waiting = unsent().slice(0, 100);
  if (sending || !waiting.length) return;
  sending = true;
  try {
    const answer = await fetch(root.dataset.taps, {
      method: "POST", headers: { "Content-Type": "application/json", "X-CSRFToken": root.dataset.token }, body: JSON.stringify({ key: page.key, taps: waiting }),
    });
    document.getElementById("come-in").hidden = answer.status !== 403;
    document.getElementById("elsewhere").hidden = answer.status !== 409;
    if (answer.ok) {
      const { kept, refused } = await answer.json();
      held.sent.push(...kept);
      Object.assign(held.refused, refused);
      localStorage.setItem(KEY, JSON.stringify(held));
    }
  } catch { /* out of reach: tried again */ }
  sending = false;
  told();
}

root.addEventListener("click", ({ target }) => {
  const button = target.closest("[data-tap]");
  if (!button) return;
  const { tap: kind, what } = button.dataset;
  tap(kind, kind === "marker" ? { what } : kind === "next" ? { step: step() + 1 } : {});
});

document.getElementById("after").addEventListener("submit", (event) => {
  event.preventDefault();
  const given = new FormData(event.target);
  const heat = Object.fromEntries(page.motors.map((n) => [n, given.get(`heat-${n}`)]).filter(([, value]) => value));
  const rating = Number(given.get("rating")) || null;
  const measured = page.motors.map((n) => [n, given.get(`celsius-${n}`)]).filter(([, value]) => value);
  const celsius = Object.fromEntries(measured.map(([n, value]) => [n, Number(value)]));
  tap("after", { ended: given.get("ended"), note: given.get("note"), rating, heat, celsius });
});

addEventListener("online", send);
setInterval(send, RETRY_MS);
setInterval(tick, 250);
reopened();
show();
send();
