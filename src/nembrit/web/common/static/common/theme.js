// Sets the theme before the first paint: the tuner's choice, or what the computer prefers.
(() => {
  const root = document.documentElement;
  const apply = () => {
    const chosen = localStorage.getItem("nembrit-theme");
    const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
    root.dataset.theme = dark ? "dark" : "light";
    document.dispatchEvent(new Event("nembrit:theme"));
  };
  apply();
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", apply);
  document.addEventListener("DOMContentLoaded", () => {
    document.getElementById("theme-switch")?.addEventListener("click", () => {
      localStorage.setItem("nembrit-theme", root.dataset.theme === "dark" ? "light" : "dark");
      apply();
    });
  });
})();
