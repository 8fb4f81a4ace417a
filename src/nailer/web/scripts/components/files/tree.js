// The folder tree: a level is fetched when it is opened for the first time.
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  init() {
    this.$root.addEventListener("click", (event) => this.twist(event));
  },
  async twist(event) {
    const button = event.target.closest("[data-tree]");
    if (!button) return;
    const item = button.closest("li");
    const level = item.querySelector(":scope > ul");
    if (level) {
      level.hidden = !level.hidden;
      button.setAttribute("aria-expanded", String(!level.hidden));
      return;
    }
    try {
      item.insertAdjacentHTML("beforeend", await html(button.dataset.tree));
      button.setAttribute("aria-expanded", "true");
    } catch (error) {
      complain(error);
    }
  },
});
