// Checks of a site: each part is read by itself; a script's slip is mended by its button.
import { html, json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  data: null,
  mending: null,
  close: null,
  hear: null,
  init() {
    this.data = this.$root.dataset;
    this.mending = new Map();
    this.close = subscribe((event) =>
      event.ended.forEach((job) => {
        if (this.mending.has(job.id)) {
          this.look(this.mending.get(job.id));
          this.mending.delete(job.id);
        }
      }),
    );
    this.hear = (event) => this.mending.set(event.detail.job, null);
    addEventListener("nailer:carrying", this.hear);
    this.fill(this.$refs.scripts).then(() =>
      this.$refs.scripts.querySelectorAll("[data-script]").forEach((one) => this.look(one)),
    );
    this.fill(this.$refs.access);
  },
  destroy() {
    this.close();
    removeEventListener("nailer:carrying", this.hear);
  },
  async fill(place) {
    try {
      place.innerHTML = await html(place.dataset.part);
    } catch (error) {
      place.textContent = error.message;
    }
  },
  async look(article) {
    if (!article)
      return this.fill(this.$refs.scripts).then(() =>
        this.$refs.scripts.querySelectorAll("[data-script]").forEach((one) => this.look(one)),
      );
    try {
      article.innerHTML = await html(article.dataset.script);
    } catch (error) {
      article.textContent = error.message;
    }
  },
  async act(event) {
    const button = event.target.closest("button"),
      article = event.target.closest("[data-script]");
    if (!button || !article) return;
    if ("again" in button.dataset) return this.look(article);
    const repair = button.dataset.repair;
    if (!repair) return;
    const body = { path: article.dataset.path, repair };
    if (repair === "take-down")
      return dispatchEvent(
        new CustomEvent("nailer:plan", { detail: { url: `/sites/${this.data.site}/checks/repair`, body } }),
      );
    button.disabled = true;
    try {
      const { job } = await json(`/sites/${this.data.site}/checks/repair`, { body });
      this.mending.set(job, article);
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
});
