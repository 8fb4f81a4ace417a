// Joins Alpine (CSP build) with the components: one file a component, named alike.
import Alpine from "../vendor/alpine/alpine.csp.esm.min.js";
import accessone from "./components/files/accessone.js";
import accesspage from "./components/files/accesspage.js";
import accesspanel from "./components/files/accesspanel.js";
import adding from "./components/sites/adding.js";
import changes from "./components/plans/changes.js";
import draftstate from "./components/editing/draftstate.js";
import apart from "./components/checks/apart.js";
import broken from "./components/checks/broken.js";
import checks from "./components/checks/checks.js";
import connecting from "./components/shell/connecting.js";
import goto from "./components/shell/goto.js";
import importing from "./components/sites/importing.js";
import jobs from "./components/plans/jobs.js";
import ledger from "./components/files/ledger.js";
import lines from "./components/shell/lines.js";
import notices from "./components/shell/notices.js";
import ownfiles from "./components/editing/ownfiles.js";
import offline from "./components/shell/offline.js";
import packages from "./components/packages/packages.js";
import page from "./components/checks/page.js";
import provedcopy from "./components/packages/provedcopy.js";
import recovery from "./components/packages/recovery.js";
import replacement from "./components/packages/replacement.js";
import version from "./components/packages/version.js";
import passkeys from "./components/people/passkeys.js";
import pathbar from "./components/files/pathbar.js";
import picture from "./components/checks/picture.js";
import pill from "./components/shell/pill.js";
import rail from "./components/shell/rail.js";
import room from "./components/checks/room.js";
import search from "./components/files/search.js";
import sending from "./components/shell/sending.js";
import sheet from "./components/plans/sheet.js";
import siteform from "./components/sites/siteform.js";
import sieves from "./components/files/sieves.js";
import sites from "./components/sites/sites.js";
import sync from "./components/pairs/sync.js";
import syncrun from "./components/pairs/syncrun.js";
import theme from "./components/shell/theme.js";
import timers from "./components/pairs/timers.js";
import tree from "./components/files/tree.js";
import trial from "./components/sites/trial.js";
import { watchTypedWord } from "./lib/typedword.js";
import unsent from "./components/shell/unsent.js";
import wire from "./components/sites/wire.js";

for (const [name, component] of Object.entries({
  accessone,
  accesspage,
  accesspanel,
  adding,
  apart,
  broken,
  changes,
  checks,
  connecting,
  draftstate,
  goto,
  importing,
  jobs,
  ledger,
  lines,
  notices,
  offline,
  ownfiles,
  packages,
  page,
  passkeys,
  pathbar,
  provedcopy,
  recovery,
  replacement,
  version,
  picture,
  pill,
  rail,
  room,
  search,
  sending,
  sheet,
  siteform,
  sieves,
  sites,
  sync,
  syncrun,
  theme,
  timers,
  tree,
  trial,
  unsent,
  wire,
})) {
  Alpine.data(name, component);
}
// On a narrow screen the open section of a site is seen among the others.
document.querySelector(".sections .on")?.scrollIntoView({ block: "nearest", inline: "center" });
// The editor is large: only its own page fetches it.
if (document.querySelector('[x-data="editor"]'))
  Alpine.data("editor", (await import("./components/editing/editor.js")).default);
watchTypedWord();
Alpine.start();
// Where the page cannot be fetched, the worker says so instead of the browser.
navigator.serviceWorker?.register("/worker.js").catch(() => {});
// Whoever drives the page by script may press from now on.
document.documentElement.dataset.alive = "";
