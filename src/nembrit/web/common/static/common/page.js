// Small manners of every page: keys, the help dialog, no double submits, parts that are swapped in, files dropped on a form.
import { onContent } from "./charts/kit.js";
import { explainTerms } from "./glossary.js";
import { keysAreOn, listenToSwitch } from "./keys.js";

const help = document.getElementById("keys");
document.getElementById("keys-open")?.addEventListener("click", () => help.showModal());
help?.addEventListener("click", (event) => { if (event.target === help) help.close(); });

listenToSwitch(document.getElementById("keys-switch"));

document.addEventListener("keydown", (event) => {
  if (!keysAreOn() || event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, dialog")) return;
  if (event.key === "?") { help.showModal(); return; }
  const target = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
  if (!target) return;
  event.preventDefault();
  if (target.closest("form")) target.focus(); // a key never sends anything by itself
  else target.click();
});

// paper in the size that was asked for
document.addEventListener("click", ({ target }) => {
  const size = target.closest("[data-print]")?.dataset.print;
  if (!size) return;
  document.body.dataset.paper = size;
  print();
});

// lines to paste elsewhere; without a clipboard (plain http from a phone) they are marked, to be copied by hand
document.addEventListener("click", async ({ target }) => {
  const button = target.closest("[data-copy]");
  if (!button) return;
  const lines = button.parentElement.querySelector("pre");
  getSelection().selectAllChildren(lines);
  try {
    await navigator.clipboard.writeText(lines.textContent);
    button.textContent = "Copied";
  } catch { button.textContent = "Marked: copy it now"; }
});

onContent(explainTerms);

// a form is sent once; the buttons come back if the page is shown again from the browser's memory
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.method !== "post" || event.defaultPrevented) return;
  if (form.dataset.sent) { event.preventDefault(); return; }
  form.dataset.sent = "1";
});
addEventListener("pageshow", () => document.querySelectorAll("form[data-sent]").forEach((form) => delete form.dataset.sent));
document.addEventListener("htmx:afterRequest", (event) => {
  const form = event.target.closest?.("form");
  if (!form) return;
  delete form.dataset.sent;
  if (event.detail.successful) form.querySelectorAll("input[type=file]").forEach(emptied); // those files were told about: ready for others
});

// what htmx swaps in starts its pictures and drops as a page of its own would
document.addEventListener("htmx:load", ({ detail }) => {
  if (detail.elt !== document.body) document.dispatchEvent(new CustomEvent("nembrit:content", { detail: detail.elt }));
});

// a form sent through htmx shows its answer also where it is a refusal
document.addEventListener("htmx:beforeSwap", ({ detail }) => {
  if (detail.boosted && detail.xhr.status >= 400) Object.assign(detail, { shouldSwap: true, isError: false });
});

// a job that ends swaps the content of its page; not while a form takes the page elsewhere, nor over what is being typed
document.addEventListener("nembrit:job-done", () => {
  if (document.querySelector("form[data-sent]")) return;
  if (!isTyping()) { htmx.ajax("GET", location.href, { target: "#content", select: "#content", swap: "outerHTML" }); return; }
  const told = document.getElementById("renewed");
  told.hidden = false;
  told.querySelector("a").href = location.href;
});

function emptied(input) {
  input.value = "";
  input.dispatchEvent(new Event("change"));
}

function isTyping() {
  return [...document.querySelectorAll("#content input:not([type=hidden]), #content select, #content textarea")].some((field) => {
    if (field.type === "file") return field.files.length > 0;
    if (field.type === "checkbox" || field.type === "radio") return field.checked !== field.defaultChecked;
    if (field.options) return [...field.options].some((option) => option.selected !== option.defaultSelected) && [...field.options].some((option) => option.defaultSelected);
    return field.value !== field.defaultValue;
  });
}

onContent((root) => root.querySelectorAll(".drop").forEach(fillDrop));

// long parts of a page are folded on a phone, where what matters must stand within two screens
const isNarrow = () => matchMedia("(width < 700px)").matches;
// a part that was opened stays open when the page is swapped for a newer one
const opened = new Set();
const titleOf = (part) => part.querySelector("summary").textContent.trim();
onContent((root) => root.querySelectorAll("details.part").forEach((part) => {
  if (opened.has(titleOf(part))) part.open = true;
  else if ("fold" in part.dataset) part.open = !isNarrow();
  part.addEventListener("toggle", () => { if (part.open) opened.add(titleOf(part)); else opened.delete(titleOf(part)); });
}));

// a table that is wider than its place is scrolled by keys, too
const reachable = (root) => root.querySelectorAll(".scroll").forEach((box) => {
  if (box.scrollWidth > box.clientWidth) box.tabIndex = 0;
  else box.removeAttribute("tabindex");
});
onContent(reachable);
addEventListener("resize", () => reachable(document));
document.addEventListener("toggle", ({ target }) => reachable(target), true);

// ticks or clears all boxes of a form at once
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-check]");
  if (!button) return;
  const { allOf } = button.closest("[data-all-of]").dataset;
  for (const box of button.form.querySelectorAll(`input[type=checkbox][name="${allOf}"]`)) box.checked = button.dataset.check === "all";
});

function fillDrop(drop) {
  const input = drop.querySelector("input[type=file]");
  const list = drop.querySelector(".chosen");
  const dates = input.form?.elements.modified; // when each file was written, as the system tells
  const show = () => {
    list.textContent = [...input.files].map((file) => file.name).join(", ");
    if (dates) dates.value = [...input.files].map((file) => file.lastModified).join(",");
  };
  input.addEventListener("change", show);
  input.form?.addEventListener("htmx:xhr:progress", ({ detail }) => {
    const sending = input.form.querySelector("#sending");
    if (!sending || !detail.lengthComputable) return;
    const percent = Math.floor((100 * detail.loaded) / detail.total);
    sending.textContent = percent < 100 ? `Sending … ${percent} %` : "Sent; looking at it …";
  });
  for (const name of ["dragenter", "dragover"]) {
    drop.addEventListener(name, (event) => { event.preventDefault(); drop.classList.add("over"); });
  }
  drop.addEventListener("dragleave", () => drop.classList.remove("over"));
  drop.addEventListener("drop", (event) => {
    event.preventDefault();
    drop.classList.remove("over");
    if (event.dataTransfer.files.length) { input.files = event.dataTransfer.files; show(); }
  });
}

// on a phone the track of stages is wider than the screen: show the present one
const present = document.querySelector(".track .open");
if (present) present.parentElement.scrollLeft = present.offsetLeft - present.parentElement.clientWidth / 2 + present.clientWidth / 2;

// choosing something that changes the page takes effect at once, with a button for those without scripts
document.addEventListener("change", ({ target }) => {
  if (target.matches("select[data-go], input[data-go]")) target.form.requestSubmit();
});
