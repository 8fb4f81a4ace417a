// Runs before anything is drawn, so that a dark page never flashes light. Not a module: modules come too late.
(() => {
  // What was switched on this device comes first, then what the person wants everywhere, then the device.
  const everywhere = document.documentElement.dataset.wantedTheme;
  const wanted = localStorage.getItem("nailer-theme") || (everywhere === "device" ? "" : everywhere);
  const dark = wanted ? wanted === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
