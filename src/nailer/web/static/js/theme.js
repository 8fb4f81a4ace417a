// Runs before anything is drawn, so that a dark page never flashes light. Not a module: modules come too late.
(() => {
  const wanted = localStorage.getItem("nailer-theme");
  const dark = wanted ? wanted === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
