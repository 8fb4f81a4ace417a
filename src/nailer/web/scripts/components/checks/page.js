// A page and what belongs to it: all of it is put into the tray at once.
import { json } from "../../lib/ask.js";
import { complain, notice } from "../../lib/notice.js";

export default () => ({
  async pick() {
    const { site, path } = this.$root.dataset;
    try {
      const { text } = await json(`/sites/${site}/checks/tray`, { body: { path } });
      notice(`In the tray: ${text}.`, { href: `/sites/${site}/files`, link: "Open the files" });
    } catch (error) {
      complain(error);
    }
  },
});
