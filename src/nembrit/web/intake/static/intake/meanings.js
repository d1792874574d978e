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
  const isActive = document.activeElement === field;
  if (field.value === asked.get(field.id) && !isActive) return;
  event.detail.shouldSwap = false;
  // the field that the Tab key has just reached keeps the cursor, and takes the answer's value
  const answer = event.detail.fragment.querySelector("input");
  if (isActive && answer && field.value === asked.get(field.id)) field.value = answer.value;
});

// a unit that was typed is the tuner's own: it is said to the server, and follows no other column any more
document.addEventListener("input", (event) => {
  const field = event.target;
  if (!(field instanceof HTMLInputElement) || !field.name.startsWith("scale-")) return;
  field.classList.remove("follows");
  const name = field.name.replace("scale-", "typed-");
  if (document.getElementsByName(name).length) return;
  const mark = document.createElement("input");
  mark.type = "hidden";
  mark.name = name;
  mark.value = "1";
  document.getElementById("typed").append(mark);
});
