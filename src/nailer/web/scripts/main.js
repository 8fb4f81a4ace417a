// What every page has: Alpine (CSP build) joined with the shell's components. `begin` adds those of one kind of page.
import Alpine from "@alpinejs/csp";
import goto from "./components/shell/goto.js";
import lines from "./components/shell/lines.js";
import notices from "./components/shell/notices.js";
import offline from "./components/shell/offline.js";
import pill from "./components/shell/pill.js";
import rail from "./components/shell/rail.js";
import sending from "./components/shell/sending.js";
import sheet from "./components/plans/sheet.js";
import theme from "./components/shell/theme.js";
import unsent from "./components/shell/unsent.js";
import { watchTypedWord } from "./lib/typedword.js";
// Named here, so that every page finds them in the one part that all pages share.
import "./lib/ask.js";
import "./lib/dropped.js";
import "./lib/events.js";
import "./lib/notice.js";
import "./lib/number.js";
import "./lib/sending.js";
import "./lib/takeback.js";
import "./lib/typedword.js";

const EVERYWHERE = { goto, lines, notices, offline, pill, rail, sending, sheet, theme, unsent };

export function begin(own) {
  for (const [name, component] of Object.entries({ ...EVERYWHERE, ...own })) Alpine.data(name, component);
  // On a narrow screen the open section of a site is seen among the others.
  document.querySelector(".sections .on")?.scrollIntoView({ block: "nearest", inline: "center" });
  watchTypedWord();
  Alpine.start();
  // Where the page cannot be fetched, the worker says so instead of the browser.
  navigator.serviceWorker?.register("/worker.js").catch(() => {});
  // Whoever drives the page by script may press from now on.
  document.documentElement.dataset.alive = "";
}
