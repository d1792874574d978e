// Where a page names a term of the glossary for the first time, the word opens its explanation: by mouse, touch or keyboard.
const OUT_OF = "a, button, summary, label, select, textarea, option, pre, svg, canvas, h1, dialog, nav, figure, [hidden], [aria-hidden=true], [popover], .no-terms";

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
  rest.replaceWith(explained(term, rest.data, left.get(term)));
  left.delete(term);
  explainIn(after, left);
}

function explained(term, written, meaning) {
  const button = Object.assign(document.createElement("button"), { type: "button", className: "term", textContent: written });
  button.dataset.term = term;
  button.setAttribute("popovertarget", "term-note");
  button.setAttribute("popovertargetaction", "show");
  button.setAttribute("aria-description", meaning);
  button.addEventListener("click", () => say(meaning, button));
  return button;
}

// one note for the whole page, put below its word and inside the window
function say(meaning, button) {
  const note = document.getElementById("term-note");
  note.textContent = meaning;
  note.showPopover();
  const at = button.getBoundingClientRect();
  const below = at.bottom + 4, isLow = below + note.offsetHeight > innerHeight;
  note.style.left = `${Math.max(8, Math.min(at.left, innerWidth - note.offsetWidth - 8))}px`;
  note.style.top = `${isLow ? Math.max(8, at.top - note.offsetHeight - 4) : below}px`;
}
