// Day or night: the system's setting, unless the switch has said otherwise. Runs before the first paint.
(() => {
  const dark = matchMedia("(prefers-color-scheme: dark)");
  const apply = () => {
    const night = (localStorage.getItem("apilado-theme") ?? (dark.matches ? "dark" : "light")) === "dark";
    document.documentElement.dataset.bsTheme = night ? "dark" : "light";
    document.querySelectorAll("[data-theme-switch]").forEach((button) => button.setAttribute("aria-pressed", night));
  };
  apply();
  dark.addEventListener("change", apply);
  document.addEventListener("DOMContentLoaded", apply);
  document.addEventListener("click", (event) => {
    if (!event.target.closest("[data-theme-switch]")) return;
    localStorage.setItem("apilado-theme", document.documentElement.dataset.bsTheme === "dark" ? "light" : "dark");
    apply();
  });
})();
