// What became of a run: drawn anew when one of its jobs ends, and taken back whole.
import { subscribe } from "../../lib/events.js";
export default () => ({
  init() {
    const jobs = new Set(this.$root.dataset.jobs.split(" ").map(Number));
    this.mine = new Set();
    this.hear = (event) => this.mine.add(event.detail.job);
    addEventListener("nailer:transferring", this.hear);
    this.close = subscribe((event) => {
      if (event.ended.some((job) => jobs.has(job.id) || this.mine.has(job.id)))
        setTimeout(() => location.reload(), 400);
    });
    // A run may have ended before anybody listened.
    if (this.$root.dataset.state === "running") this.timer = setTimeout(() => location.reload(), 2500);
  },
  destroy() {
    this.close();
    clearTimeout(this.timer);
    removeEventListener("nailer:transferring", this.hear);
  },
  act(event) {
    const button = event.target.closest("[data-run-back]");
    if (button)
      dispatchEvent(
        new CustomEvent("nailer:plan", {
          detail: { url: `/runs/${button.dataset.runBack}/plans/take-back`, body: {} },
        }),
      );
  },
});
