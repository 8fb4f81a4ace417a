// What is in a verified copy: all of it, a folder or a file comes back by a plan that is read; here, there or on another site.
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";

export default () => ({
  at: "",
  init() {
    this.at = this.$root.dataset.at;
  },
  plan(act, body) {
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `${this.at}/${act}`, body } }));
  },
  act(event) {
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    if (button.dataset.do === "restore") return this.plan("restore", { below: button.dataset.below });
    if (button.dataset.do === "compare") return this.compare(button);
  },
  elsewhere(event) {
    const { site, folder } = event.target.elements;
    this.plan("restore-to", { site: site.value ? Number(site.value) : null, folder: folder.value });
  },
  async compare(button) {
    button.disabled = true;
    try {
      this.$refs.compared.innerHTML = await html(`${this.at}/compared`);
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
});
