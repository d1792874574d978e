// Where a page names a term of the glossary for the first time, the word opens its explanation: by mouse, touch or keyboard.
const OUT_OF = "a, button, summary, label, select, textarea, option, pre, svg, canvas, h1, dialog, nav, figure, [hidden], [popover], .no-terms";

const words = fetch(new URL("./glossary.json", import.meta.url)).then((answer) => answer.json());

export async function explainTerms(root) {
  const known = Object.entries(await words);
  const page = document.getElementById("content");
  const within = root === document ? page : root;
  if (!page || !within?.isConnected || !page.contains(within)) return;
  const shown = new Set([...page.querySelectorAll("button.term")].map((one) => one.dataset.term));
  const left = new Map(known.filter(([term]) => !shown.has(term)));
  const walker = document.createTreeWalker(within, NodeFilter.SHOW_TEXT);
  const texts = [];
  while (walker.nextNode()) texts.push(walker.currentNode);
  for (const text of texts) if (left.size && !text.parentElement.closest(OUT_OF)) explainIn(text, left);
}

function explainIn(text, left) {
  const found = [...left.keys()]
    .map((term) => [term, new RegExp(`(?<![\\w-])${term.replaceAll(" ", "\\s+")}(?![\\w-])`, "i").exec(text.data)])
    .filter(([, match]) => match)
    .sort(([one, a], [other, b]) => a.index - b.index || other.length - one.length)[0];
  if (!found) return;
  const [term, match] = found;
  const rest = text.splitText(match.index);
  const after = rest.splitText(match[0].length);
  rest.replaceWith(...explained(term, rest.data, left.get(term)));
  left.delete(term);
  explainIn(after, left);
}

function explained(term, written, meaning) {
  const id = `term-${term.replaceAll(/\W+/g, "-")}`;
  const button = Object.assign(document.createElement("button"), { type: "button", className: "term", textContent: written });
  button.dataset.term = term;
  button.setAttribute("popovertarget", id);
  button.setAttribute("aria-description", "explanation");
  const note = Object.assign(document.createElement("span"), { id, className: "term-note", textContent: meaning });
  note.setAttribute("popover", "");
  note.setAttribute("role", "note");
  note.addEventListener("toggle", ({ newState }) => { if (newState === "open") putBelow(note, button); });
  return [button, note];
}

// below its word, inside the window
function putBelow(note, button) {
  const at = button.getBoundingClientRect();
  const left = Math.max(8, Math.min(at.left, innerWidth - note.offsetWidth - 8));
  const top = at.bottom + 4 + note.offsetHeight > innerHeight ? at.top - note.offsetHeight - 4 : at.bottom + 4;
  note.style.left = `${left}px`;
  note.style.top = `${Math.max(8, top)}px`;
}
