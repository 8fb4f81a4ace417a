// The permissions of one name in all their forms: bits, octal, text, expression, words. Whatever is edited, the others follow.
import { json } from "../../lib/ask.js";
export default () => ({
  // Everything is named here: what is not would be written into the component round this one.
  data: null,
  now: "",
  octal: "",
  hear: null,
  sentence: "",
  problem: "",
  init() {
    this.data = this.$root.dataset;
    this.now = this.data.octal;
    this.octal = this.data.octal;
    this.sentence = this.$root.querySelector(".permissions-sentence").textContent;
    this.hear = (event) => {
      if (event.detail.panel === this.data.panel) this.read(event.detail.octal, true);
    };
    addEventListener("nailer:set-panel", this.hear);
  },
  destroy() {
    removeEventListener("nailer:set-panel", this.hear);
  },
  press(event) {
    const bit = event.target.closest("[data-digit]");
    if (!bit) return;
    const permissions = parseInt(this.octal, 8) ^ (Number(bit.dataset.digit) << (3 * (2 - Number(bit.dataset.place))));
    this.read(eight(permissions));
  },
  typed(event) {
    const field = event.target,
      permissions = parseInt(this.octal, 8);
    if (field.name) return this.read(field.value);
    if (field.dataset.words) {
      const shift = 3 * (2 - Number(field.dataset.words));
      return this.read(eight((permissions & ~(7 << shift)) | (Number(field.value) << shift)));
    }
    if (field.dataset.special) this.read(eight(permissions ^ (Number(field.dataset.special) << 9)));
  },
  async read(text, quiet = false) {
    try {
      const found = await json(
        `/permissions/read?text=${encodeURIComponent(text)}&now=${this.octal}&folder=${this.data.folder}`,
      );
      const { difference } = await json(
        `/permissions/read?text=${found.octal}&now=${this.now}&folder=${this.data.folder}`,
      );
      this.problem = "";
      this.octal = found.octal;
      this.sentence = found.sentence;
      for (const name of ["octal", "rwx", "symbolic"]) this.$root.querySelector(`[name=${name}]`).value = found[name];
      this.$root.querySelectorAll("[data-digit]").forEach((bit) => {
        const on = Boolean(found.digits[Number(bit.dataset.place)] & Number(bit.dataset.digit));
        bit.classList.toggle("on", on);
        bit.setAttribute("aria-pressed", String(on));
      });
      this.$root.querySelectorAll("[data-words]").forEach((one) => {
        one.value = String(found.digits[Number(one.dataset.words)]);
      });
      this.$root.querySelectorAll("[data-special]").forEach((one) => {
        one.checked = Boolean(found.special & Number(one.dataset.special));
      });
      if (!quiet) this.$dispatch("permissions", { panel: this.data.panel, octal: found.octal, difference });
    } catch (error) {
      this.problem = error.message;
    }
  },
});

function eight(permissions) {
  return permissions.toString(8).padStart(3, "0");
}
