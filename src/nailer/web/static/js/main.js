// Joins Alpine (CSP build) with the components: one file a component, named alike.
import Alpine from "../vendor/alpine/alpine.csp.esm.min.js";
import accessone from "./components/accessone.js";
import accesspage from "./components/accesspage.js";
import accesspanel from "./components/accesspanel.js";
import adding from "./components/adding.js";
import changes from "./components/changes.js";
import draftstate from "./components/draftstate.js";
import checks from "./components/checks.js";
import connecting from "./components/connecting.js";
import finder from "./components/finder.js";
import importing from "./components/importing.js";
import jobs from "./components/jobs.js";
import ledger from "./components/ledger.js";
import lines from "./components/lines.js";
import notices from "./components/notices.js";
import ownfiles from "./components/ownfiles.js";
import pathbar from "./components/pathbar.js";
import pill from "./components/pill.js";
import search from "./components/search.js";
import sheet from "./components/sheet.js";
import siteform from "./components/siteform.js";
import sieves from "./components/sieves.js";
import sites from "./components/sites.js";
import sync from "./components/sync.js";
import syncrun from "./components/syncrun.js";
import theme from "./components/theme.js";
import timers from "./components/timers.js";
import tree from "./components/tree.js";
import trial from "./components/trial.js";
import wire from "./components/wire.js";

for (const [name, component] of Object.entries({ accessone, accesspage, accesspanel, adding, changes, checks, connecting, draftstate, finder, importing, jobs, ledger, lines, notices, ownfiles, pathbar, pill, search, sheet, siteform, sieves, sites, sync, syncrun, theme, timers, tree, trial, wire })) {
  Alpine.data(name, component);
}
// The editor is large: only its own page fetches it.
if (document.querySelector('[x-data="editor"]')) Alpine.data("editor", (await import("./components/editor.js")).default);
Alpine.start();
// Whoever drives the page by script may press from now on.
document.documentElement.dataset.alive = "";
