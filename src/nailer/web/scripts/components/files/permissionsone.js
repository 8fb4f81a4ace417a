// The permissions of one name in the inspector: what would change, and setting it.
import { json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  data: null,
  differs: false,
  difference: "",
  octal: "",
  init() {
    this.data = this.$root.dataset;
  },
  preset(event) {
    this.tell(event.currentTarget.dataset.octal);
  },
  tell(octal) {
    dispatchEvent(new CustomEvent("nailer:set-panel", { detail: { panel: "one", octal } }));
    const panel = this.$root.querySelector("[data-panel]").dataset;
    json(`/permissions/read?text=${octal}&now=${panel.octal}&folder=${panel.folder}`)
      .then((found) => this.take(found))
      .catch(complain);
  },
  changed(event) {
    this.take(event.detail);
  },
  take({ octal, difference }) {
    this.octal = octal;
    this.difference = difference;
    this.differs = octal !== this.$root.querySelector("[data-panel]").dataset.octal;
  },
  async set() {
    try {
      const { job } = await json(`/sites/${this.data.site}/permissions/one`, {
        body: { side: this.data.side, path: this.data.path, octal: this.octal },
      });
      dispatchEvent(new CustomEvent("nailer:transferring", { detail: { job } }));
      this.differs = false;
    } catch (error) {
      complain(error);
    }
  },
});
