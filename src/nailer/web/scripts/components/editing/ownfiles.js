// Files that are open in a program of one's own: send a save, send each, or watch no longer.
import { json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  close: null,
  known: null,
  init() {
    this.close = subscribe((event) => {
      const now = JSON.stringify(event.saved);
      if (this.known !== null && this.known !== now) location.reload();
      this.known = now;
    });
  },
  destroy() {
    this.close();
  },
  async act(event) {
    const button = event.target.closest("[data-own-act]");
    if (!button) return;
    button.disabled = true;
    try {
      await json(`/own-files/${button.closest("[data-own]").dataset.own}/${button.dataset.ownAct}`, { body: {} });
      location.reload();
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
});
