// A page that is blank or broken: what was looked at fills the page, and each decision leads on.
import { html, json } from "../../lib/ask.js";
import { complain, notice } from "../../lib/notice.js";

export default () => ({
  init() {
    if (this.$refs.found) this.look();
  },
  async look() {
    const place = this.$refs.found;
    place.setAttribute("aria-busy", "true");
    try {
      place.innerHTML = await html(place.dataset.part);
    } catch (error) {
      place.textContent = error.message;
    }
    place.removeAttribute("aria-busy");
  },
  act(event) {
    const button = event.target.closest("button");
    if (button?.dataset.do === "again") this.look();
    if (button?.dataset.do === "take-back") this.takeBack(button);
  },
  async takeBack(button) {
    button.disabled = true;
    try {
      await json(`/sites/${this.$root.dataset.site}/changes/${button.dataset.change}/take-back`, { body: {} });
      notice("The change is being taken back. Check again when that is done.");
    } catch (error) {
      complain(error);
    }
    button.disabled = false;
  },
});
