// The ledger: one component, its verbs in files of their own.
import { json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { mixed } from "../../lib/mixed.js";
import { complain } from "../../lib/notice.js";
import asking from "./ledger/asking.js";
import drops from "./ledger/drops.js";
import inspector from "./ledger/inspector.js";
import keys from "./ledger/keys.js";
import picking from "./ledger/picking.js";
import windows from "./ledger/windows.js";

const own = {
  init() {
    this.data = this.$root.dataset;
    this.total = Number(this.data.total);
    this.query = this.data.ledger;
    this.picked = new Set();
    this.at = -1;
    this.anchor = -1;
    this.blocks = new Map();
    this.takeFirst();
    this.$root.addEventListener("click", (event) => this.acted(event));
    this.$root.addEventListener("submit", (event) => this.submitted(event));
    this.listenForDrops();
    this.hearTransferred = (event) => {
      this.mine.add(event.detail.job);
      if (event.detail.url?.endsWith("/transfer-tray")) this.tray("tray/empty", {});
    };
    this.mine = new Set();
    addEventListener("nailer:transferring", this.hearTransferred);
    this.hearSize = () => this.resized();
    addEventListener("resize", this.hearSize);
    this.close = subscribe((event) => this.hear(event));
    if (this.data.together) this.rollUp();
    this.$refs.scroll.addEventListener("focus", () => {
      if (this.at < 0 && this.total) {
        this.at = 0;
        this.mark();
      }
    });
    this.$refs.scroll.focus({ preventScroll: true });
    if (this.data.pick) this.go(Number(this.data.pickAt), {});
  },

  destroy() {
    this.close();
    removeEventListener("nailer:transferring", this.hearTransferred);
    removeEventListener("resize", this.hearSize);
  },

  goBack() {
    history.back();
  },

  goForward() {
    history.forward();
  },

  async pinPlace(event) {
    const button = event.currentTarget,
      pinned = button.getAttribute("aria-pressed") !== "true";
    try {
      await json(button.dataset.places, { body: { here: this.data.here, there: this.data.there, pinned } });
      location.reload();
    } catch (error) {
      complain(error);
    }
  },

  changed() {
    this.reload().then(() => {
      this.inspect();
      if (this.data.together) this.rollUp();
      this.drawAround();
    });
  },

  // What stands round the ledger (tree, callouts, status) comes anew from the page itself.
  async drawAround() {
    const response = await fetch(location.href, { headers: { Accept: "text/html" } }).catch(() => null);
    if (!response?.ok) return;
    const page = new DOMParser().parseFromString(await response.text(), "text/html");
    const parts = page.querySelectorAll("[data-anew]");
    document
      .querySelectorAll("[data-anew]")
      .forEach((part, at) => parts[at] && part.replaceChildren(...parts[at].childNodes));
  },

  hear(event) {
    if (this.renamedAway && event.ended.some((job) => this.mine.has(job.id) && job.state === "done")) {
      this.sayOldAddress(this.renamedAway);
      this.renamedAway = null;
    }
    if (event.ended.some((job) => String(job.site) === this.data.site || this.mine.has(job.id))) this.changed();
  },
};

export default () => mixed(own, windows, picking, keys, inspector, asking, drops);
