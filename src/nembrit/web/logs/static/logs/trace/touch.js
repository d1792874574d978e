// Fingers on the panes: one moves along time, two zoom. What is shown follows at once, data come after.
export function followFingers(box, panes, range, commit) {
  const fingers = new Map();
  let start = null;
  const begin = () => {
    const [from, to] = range();
    start = { from, to, xs: [...fingers.values()], width: box.querySelector(".u-over")?.clientWidth ?? box.clientWidth };
  };
  box.addEventListener("pointerdown", (event) => {
    if (event.pointerType !== "touch" || !event.target.closest(".plot")) return;
    fingers.set(event.pointerId, event.clientX);
    begin();
  });
  box.addEventListener("pointermove", (event) => {
    if (!fingers.has(event.pointerId) || !start) return;
    fingers.set(event.pointerId, event.clientX);
    const shown = wanted();
    if (shown) { start.shown = shown; panes.preview(...shown); }
  });
  const end = (event) => {
    if (!fingers.delete(event.pointerId)) return;
    if (start?.shown) commit(...start.shown);
    start = null;
    if (fingers.size) begin();
  };
  for (const name of ["pointerup", "pointercancel"]) box.addEventListener(name, end);

  function wanted() {
    const xs = [...fingers.values()], span = start.to - start.from, scale = span / start.width;
    if (xs.length === 1) {
      const moved = xs[0] - start.xs[0];
      return Math.abs(moved) > 8 ? [start.from - moved * scale, start.to - moved * scale] : null;
    }
    if (xs.length !== 2 || start.xs.length !== 2) return null;
    const before = Math.max(20, Math.abs(start.xs[0] - start.xs[1])), now = Math.max(20, Math.abs(xs[0] - xs[1]));
    const middle = (start.from + start.to) / 2, half = (span / 2) * (before / now);
    return [middle - half, middle + half];
  }
}
