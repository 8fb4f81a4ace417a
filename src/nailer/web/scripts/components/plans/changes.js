// The list of changes: what one did, and taking one, a job, or all since a moment back.
import { html } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { complain } from "../../lib/notice.js";
import { takeBack } from "../../lib/takeback.js";
export default () => ({
  data: null,
  mine: null,
  close: null,
  hear: null,
  init() {
    this.data = this.$root.dataset;
    this.mine = new Set();
    this.hear = (event) => this.mine.add(event.detail.job);
    addEventListener("nailer:transferring", this.hear);
    this.close = subscribe((event) => {
      if (event.ended.some((job) => this.mine.has(job.id))) location.reload();
    });
  },
  destroy() {
    this.close();
    removeEventListener("nailer:transferring", this.hear);
  },
  async act(event) {
    const button = event.target.closest("button");
    if (!button) return;
    if (button.dataset.takeBack && (await takeBack(button, button.dataset.site)))
      setTimeout(() => location.reload(), 700);
    if (button.dataset.since) this.plan(`/sites/${this.data.site}/changes/${button.dataset.since}/plans/since`);
    if (button.dataset.jobBack) this.plan(`/jobs/${button.dataset.jobBack}/plans/take-back`);
    if (button.dataset.difference) this.differ(button);
  },
  plan(url) {
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body: {} } }));
  },
  async differ(button) {
    const row = button.closest("tr");
    if (row.nextElementSibling?.matches(".differs-row")) return row.nextElementSibling.remove();
    try {
      const text = await html(`/sites/${this.data.site}/changes/${button.dataset.difference}/difference`);
      const shown = document.createElement("tr"),
        cell = document.createElement("td");
      shown.className = "differs-row";
      cell.colSpan = row.cells.length;
      cell.innerHTML = text;
      shown.append(cell);
      row.after(shown);
    } catch (error) {
      complain(error);
    }
  },
});
