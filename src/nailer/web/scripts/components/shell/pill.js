// The pill in the top bar: how many jobs run, how far they are, how fast; and a notice when one ends.
import { subscribe } from "../../lib/events.js";
import { notice } from "../../lib/notice.js";
const POINTS = 10;
export default () => ({
  running: [],
  history: [],
  init() {
    this.close = subscribe((event) => {
      this.running = event.running;
      const speed = event.speeds[0];
      if (speed) this.history = [...this.history, speed[0] + speed[1]].slice(-POINTS);
      event.ended.forEach((job) => this.tell(job));
    });
  },
  destroy() {
    this.close();
  },
  tell(job) {
    const more = { href: `/jobs/${job.id}`, link: "Look", back: job.undoable ? job.id : 0 };
    if (job.state === "done") notice(`${job.title}: done. ${job.line}.`, more);
    else if (job.state === "needs-you")
      notice(`${job.title} needs you: ${job.trouble || `${job.failed} failed`}`, { ...more, look: "bad" });
  },
  get busy() {
    return this.running.length > 0;
  },
  get text() {
    const share = this.running.reduce((sum, job) => sum + job.share, 0) / (this.running.length || 1);
    return `${this.running.length} job${this.running.length === 1 ? "" : "s"}, ${Math.floor(share * 100)}%`;
  },
  get rate() {
    return this.running.find((job) => job.rate)?.rate || "";
  },
  get line() {
    const most = Math.max(1, ...this.history);
    return this.history.map((value, at) => `${at * 6},${13 - (11 * value) / most}`).join(" ");
  },
});
