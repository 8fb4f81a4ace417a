// Checks of a site: what a reading has found, with buttons that make plans; each other part is read by itself.
import { html, json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { complain, notice } from "../../lib/notice.js";

const LOOK_EVERY_MS = 700;
const LONGEST_PAUSE_MS = 15000;

export default () => ({
  data: null,
  mending: null,
  mended: null,
  close: null,
  hear: null,
  timer: 0,
  missed: 0,
  init() {
    this.data = this.$root.dataset;
    this.mending = new Map();
    this.mended = new Set();
    this.close = subscribe((event) => event.ended.forEach((job) => this.ended(job.id)));
    this.hear = ({ detail }) => {
      if (detail.url?.endsWith("/checks/mend")) this.mended.add(detail.job);
      else this.mending.set(detail.job, null);
    };
    addEventListener("nailer:transferring", this.hear);
    // Each script is asked for by itself: not before somebody wants to know.
    this.$refs.scripts.addEventListener("toggle", () => this.look(null), { once: true });
    this.part(this.$refs.permissions);
    if (this.$refs.room) this.fill(this.$refs.room);
    if (this.$refs.address) this.part(this.$refs.address);
    if (this.$refs.host) this.fill(this.$refs.host);
    this.follow();
  },
  destroy() {
    this.close();
    clearTimeout(this.timer);
    removeEventListener("nailer:transferring", this.hear);
  },
  // A job has ended. After one that mended a finding the site is read again: what is unchanged costs its listing only.
  ended(id) {
    if (this.mended.delete(id)) this.overview("read", { account: false });
    if (!this.mending.has(id)) return;
    this.look(this.mending.get(id));
    this.mending.delete(id);
  },
  // While a reading is under way the page asks how far it is.
  follow() {
    clearTimeout(this.timer);
    const busy = Boolean(this.$refs.overview.querySelector("[data-busy]"));
    const pause = Math.min(LOOK_EVERY_MS * 2 ** this.missed, LONGEST_PAUSE_MS);
    if (busy) this.timer = setTimeout(() => this.overview("overview"), pause);
    else if (this.wasBusy && this.$refs.room) this.fill(this.$refs.room);
    else if (this.wasBusy) location.reload();
    this.wasBusy = busy;
  },
  async overview(act, body) {
    try {
      const text = await html(`/sites/${this.data.site}/checks/${act}`, { body });
      const open = [...this.$refs.overview.querySelectorAll("details[open]")].map((one) => one.closest("[data-sort]"));
      const sorts = new Set(open.filter(Boolean).map((one) => one.dataset.sort + one.dataset.first));
      this.$refs.overview.innerHTML = text;
      this.$refs.overview.querySelectorAll("[data-sort]").forEach((one) => {
        if (sorts.has(one.dataset.sort + one.dataset.first)) one.querySelector("details").open = true;
      });
      this.missed = 0;
    } catch (error) {
      // Said once: a page that asks again and again would fill with it.
      if (!this.missed) complain(error);
      this.missed += 1;
    }
    this.follow();
  },
  lookAtScripts() {
    this.$refs.scriptlist.querySelectorAll("[data-script]").forEach((one) => this.look(one));
  },
  async fill(place, address = place.dataset.part) {
    try {
      place.innerHTML = await html(address);
    } catch (error) {
      place.textContent = error.message;
    }
  },
  // A part that stays folded while nothing in it is wrong.
  async part(details) {
    const body = details.querySelector(".part-body");
    await this.fill(body, details.dataset.part);
    this.says(details);
  },
  says(details) {
    const wrong = details.querySelectorAll(".part-body :is(.callout.warn, .chip.bad, .risks li, [data-wrong])").length;
    const state = details.querySelector(".part-state");
    state.textContent = wrong ? `${wrong} ${wrong === 1 ? "thing needs" : "things need"} you` : "fine";
    state.className = `part-state ${wrong ? "warn-ink" : "good-ink"}`;
    details.open ||= wrong > 0;
  },
  async look(article) {
    if (!article) {
      await this.fill(this.$refs.scriptlist, this.$refs.scripts.dataset.part);
      return this.lookAtScripts();
    }
    try {
      article.innerHTML = await html(article.dataset.script);
    } catch (error) {
      article.textContent = error.message;
    }
  },
  act(event) {
    const button = event.target.closest("button");
    if (!button) return;
    const { finding, name } = button.dataset;
    switch (button.dataset.do) {
      case "read":
        return this.overview("read", { account: false });
      case "read-account":
        return this.overview("read", { account: true });
      case "read-others":
        return this.overview("read", { others: true });
      case "give-up":
        return this.overview("give-up", {});
      case "heed":
        return this.overview(`heed/${finding}`, {});
      case "ignore":
        return this.ignore(Number(finding), name);
      case "mend":
        return this.mend(button);
      case "address":
        return this.part(this.$refs.address);
      case "prove":
        return this.prove();
      case "try-scripts":
        return this.tryScripts();
    }
    const article = button.closest("[data-script]");
    if (article) this.repair(button, article);
  },
  ignore(finding, name) {
    const ask = {
      title: `Ignore ${name}`,
      verb: "Ignore",
      label: "Why this finding can be ignored",
      done: ({ text }) => this.overviewOrFail("ignore", { findings: [finding], why: text }),
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  // Something is put there for a moment: it is said before.
  prove() {
    const help =
      "Nailer puts a file with a secret name into each likely folder, fetches it from the web address and removes it.";
    const ask = {
      title: "Which folder does this address show?",
      verb: "Test",
      choices: [{ value: "prove", word: "Test with a file", help }],
      done: async () => {
        const found = await html(`/sites/${this.data.site}/checks/prove`, { body: {} });
        this.$refs.address.querySelector(".part-body").innerHTML = found;
        this.says(this.$refs.address);
        this.$refs.address.open = true;
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  tryScripts() {
    const help =
      "Nailer puts a harmless two-line script of each type into the document root and the script folder, fetches it and removes it.";
    const ask = {
      title: "What does the server do with scripts?",
      verb: "Test",
      choices: [{ value: "try", word: "Test with scripts", help }],
      done: async () => {
        this.$refs.host.innerHTML = await html(`/sites/${this.data.site}/checks/try-scripts`, { body: {} });
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  // As `overview`, but a refusal is the question's to show.
  async overviewOrFail(act, body) {
    this.$refs.overview.innerHTML = await html(`/sites/${this.data.site}/checks/${act}`, { body });
    this.follow();
  },
  async mend(button) {
    const card = button.closest("[data-sort]");
    const url = `/sites/${this.data.site}/checks/mend`;
    const body = { sort: card.dataset.sort, mend: button.dataset.mend, first: Number(card.dataset.first) };
    if (body.mend !== "close") return dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body } }));
    const ask = {
      title: button.textContent.trim(),
      verb: "Set 600",
      choices: [
        {
          value: "close",
          word: "Only the owner reads and writes",
          help: "Nailer keeps the permissions of now: you can take it back.",
        },
      ],
      done: async () => {
        const { job } = await json(url, { body });
        this.mended.add(job);
        notice("Its permissions are being set to 600.", { back: job });
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  async repair(button, article) {
    if ("again" in button.dataset) return this.look(article);
    const repair = button.dataset.repair;
    if (!repair) return;
    const body = { path: article.dataset.path, repair };
    const url = `/sites/${this.data.site}/checks/repair`;
    if (repair === "take-down") return dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body } }));
    button.disabled = true;
    try {
      const { job } = await json(url, { body });
      this.mending.set(job, article);
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
});
