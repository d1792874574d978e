// Small manners of every page: keys, the help dialog, no double submits, files dropped on a form.
const help = document.getElementById("keys");
document.getElementById("keys-open")?.addEventListener("click", () => help.showModal());
help?.addEventListener("click", (event) => { if (event.target === help) help.close(); });

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea, dialog")) return;
  if (event.key === "?") { help.showModal(); return; }
  const target = document.querySelector(`[data-key="${CSS.escape(event.key)}"]`);
  if (target) { event.preventDefault(); target.click(); }
});

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
  if (form) delete form.dataset.sent;
});

// a job that ends loads the page anew, but not while a form takes it elsewhere: its answer would be lost
document.addEventListener("htmx:beforeOnLoad", (event) => {
  if (event.detail.xhr.getResponseHeader("HX-Refresh") && document.querySelector("form[data-sent]")) event.preventDefault();
});

for (const drop of document.querySelectorAll(".drop")) {
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
for (const select of document.querySelectorAll("select[data-go], input[data-go]")) {
  select.addEventListener("change", () => select.form.requestSubmit());
}
