// A path bar: names to click, or a box to type a path or paste a web address into.
import { json } from "../../lib/ask.js";
export default () => ({
  typing: false,
  type() {
    this.typing = true;
    this.$nextTick(() => {
      this.$refs.input.focus();
      this.$refs.input.select();
    });
  },
  leave() {
    this.typing = false;
  },
  // Folders that begin like what is typed; what was typed last wins.
  async complete() {
    const input = this.$refs.input,
      text = input.value;
    if (!text.includes("/") || text.includes("://")) return;
    this.asking?.abort();
    this.asking = new AbortController();
    const found = await json(`${input.dataset.complete}&text=${encodeURIComponent(text)}`, {
      signal: this.asking.signal,
    }).catch(() => null);
    if (found)
      this.$refs.paths.replaceChildren(
        ...found.folders.map((value) => Object.assign(document.createElement("option"), { value })),
      );
  },
  get shown() {
    return !this.typing;
  },
});
