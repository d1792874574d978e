// What is being typed is never replaced: an answer from the server changes a field only if it still holds what it held
// when the question was sent.

let asked = new Map();

function fields() {
  return document.querySelectorAll("input[name^='role-'], input[name^='scale-']");
}

document.addEventListener("htmx:beforeRequest", () => {
  asked = new Map([...fields()].map((field) => [field.id, field.value]));
});

document.addEventListener("htmx:oobBeforeSwap", (event) => {
  const field = event.detail.target;
  if (!(field instanceof HTMLInputElement) || !asked.has(field.id)) return;
  const changed = field.value !== asked.get(field.id) || document.activeElement === field;
  if (changed) event.detail.shouldSwap = false;
});

// a field that was typed into is the tuner's own, whatever it followed before
document.addEventListener("input", (event) => {
  const field = event.target;
  if (field instanceof HTMLInputElement && field.classList.contains("follows")) field.classList.remove("follows");
  const mark = field instanceof HTMLInputElement && document.getElementById(`follows-${field.id}`);
  if (mark) mark.remove();
});
