// How lines look: colours from the page's tokens, and a second cue (dash, width, area) for each.
export const token = (name) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

const LOOKS = {
  raw: { width: 1, alpha: 0.28, fillDown: true },
  filtered: { width: 2, alpha: 0.22 },
  before: { width: 1.8, dash: [7, 4], colour: "before", alpha: 0.16 },
  after: { width: 2, colour: "ink", alpha: 0.16 },
  setpoint: { width: 1.3, dash: [5, 3], colour: "ink" },
  before_setpoint: { width: 1.3, dash: [2, 3], colour: "before" },
  second: { width: 1.6, dash: [7, 3], colour: "ink-2" },
  third: { width: 1.6, colour: "ink" },
  fourth: { width: 1.6, dash: [2, 3], colour: "ink" },
  plain: { width: 1.5, alpha: 0.25 },
};

export const lookOf = (line) => {
  const look = LOOKS[line.look] ?? LOOKS.plain;
  return { ...look, colour: look.colour ?? line.colour };
};

// a token's colour made partly transparent
export const faded = (name, alpha) => `color-mix(in srgb, ${token(name)} ${Math.round(alpha * 100)}%, transparent)`;

export const text = (value, unit = "") => {
  if (value == null || Number.isNaN(value)) return "–";
  const size = Math.abs(value);
  const places = size >= 100 ? 0 : size >= 10 ? 1 : size >= 1 ? 2 : 3;
  const shown = value.toFixed(places).replace("-", "\u2212");
  return unit && unit !== "1" ? `${shown} ${unit}` : shown;
};

// What a value of an axis stands for: axes may be drawn over its log10.
export const meant = (axis, value) => (axis.is_log && value != null ? 10 ** value : value);

// Places of ticks on a logarithmic axis: decades, with 2 and 5 between them where there is room.
export function decades(low, high) {
  const between = high - low < 3 ? [0, Math.log10(2), Math.log10(5)] : [0], found = [];
  for (let decade = Math.floor(low); decade <= high; decade++) found.push(...between.map((part) => decade + part).filter((at) => at >= low && at <= high));
  return found;
}

export const tick = (value) => String(Number(value.toPrecision(6))).replace("-", "\u2212");
