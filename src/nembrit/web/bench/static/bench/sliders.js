// A slider stands for its number: from half to double of the flown one; letting go tries it.
const numberOf = (slider) => document.getElementById(slider.dataset.of);

document.addEventListener("input", ({ target }) => {
  if (!target.matches("input[type=range][data-of]")) return;
  const number = numberOf(target);
  const decimals = (number.defaultValue.split(".")[1] ?? "").length;
  number.value = (Number(target.dataset.flown) * 2 ** (target.value / 100)).toFixed(decimals);
});

// keys change it step by step: it is tried once they rest
let resting;
document.addEventListener("change", ({ target }) => {
  if (!target.matches("input[type=range][data-of]")) return;
  clearTimeout(resting);
  resting = setTimeout(() => target.form?.requestSubmit(), 250);
});
