// Where another version of a package comes from: an archive that is dropped, a folder here, another site.
import { json, put } from "../../lib/ask.js";

export default () => ({
  busy: "",
  problem: "",
  dropping: "",
  over() {
    this.dropping = "over";
  },
  out() {
    this.dropping = "";
  },
  drop(event) {
    this.out();
    if (event.dataTransfer.files.length === 1) this.send(event.dataTransfer.files[0]);
    else this.problem = "Drop a single archive.";
  },
  chosen() {
    const [file] = this.$refs.file.files;
    if (file) this.send(file);
  },
  send(file) {
    const { site, path, into } = this.$root.dataset;
    const which = path ? `path=${path}` : `into=${into}`;
    const url = `/sites/${site}/packages/replacements?name=${encodeURIComponent(file.name)}&${which}`;
    return this.goes(`Reading ${file.name} …`, () => put(url, file));
  },
  act(event) {
    const button = event.target.closest("button[data-do=here]");
    if (button) this.post("here", { here: button.dataset.here }, "Reading it …");
  },
  folder(event) {
    const { side, folder } = event.target.elements;
    if (side.value === "here") return this.post("here", { here: folder.value }, "Reading it …");
    return this.post("elsewhere", { site: Number(side.value), there: folder.value }, "Reading it …");
  },
  post(from, more, words) {
    const { site, path, into } = this.$root.dataset;
    const url = `/sites/${site}/packages/replacements/${from}`;
    return this.goes(words, () => json(url, { body: { path, into, ...more } }));
  },
  async goes(words, ask) {
    Object.assign(this, { busy: words, problem: "" });
    try {
      location.href = (await ask()).address;
    } catch (error) {
      Object.assign(this, { busy: "", problem: error.message });
      this.$refs.file.value = "";
    }
  },
});
