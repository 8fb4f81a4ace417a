// Recovery: the ways back, each taken by its own plan or page.
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
import { takeBack } from "../../lib/takeback.js";

export default () => ({
  init() {
    this.fill();
    this.fill(this.$refs.scratch);
  },
  async fill(place = this.$refs.ways) {
    try {
      place.innerHTML = await html(place.dataset.part);
    } catch (error) {
      place.textContent = error.message;
    }
  },
  async scratch(button) {
    const { why, hours } = button.form?.elements || {};
    const [act, body] = {
      "scratch-make": ["", { why: why?.value, hours: Number(hours?.value) }],
      "scratch-longer": [`/${button.dataset.area}/longer`, { hours: 24 }],
      "scratch-end": [`/${button.dataset.area}/end`, {}],
    }[button.dataset.do];
    button.disabled = true;
    try {
      this.$refs.scratch.innerHTML = await html(this.$refs.scratch.dataset.part + act, { body });
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  async act(event) {
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    if (button.dataset.do.startsWith("scratch-")) return this.scratch(button);
    const { number } = button.dataset;
    const site = this.$root.dataset.site;
    if (button.dataset.do === "job") {
      const detail = { url: `/jobs/${number}/plans/take-back`, body: {} };
      return dispatchEvent(new CustomEvent("nailer:plan", { detail }));
    }
    button.disabled = true;
    try {
      if (button.dataset.do === "change") {
        button.dataset.takeBack = number;
        await takeBack(button, site);
      } else await html(`/sites/${site}/packages/bring-back/${number}`, { body: {} });
    } catch (error) {
      complain(error);
    }
    this.fill();
  },
});
