// Single keys can be switched off: who dictates or whose hands tremble would start things by chance.
const PLACE = "nembrit-keys";

export const keysAreOn = () => localStorage.getItem(PLACE) !== "off";

export function listenToSwitch(box) {
  if (!box) return;
  box.checked = keysAreOn();
  box.addEventListener("change", () => localStorage.setItem(PLACE, box.checked ? "on" : "off"));
}
