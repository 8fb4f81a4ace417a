// Every key of the ledger.
import { rowPx } from "./rows.js";

export default {
  keys(event) {
    if (event.target.closest("input, textarea, select")) return;
    const step = {
      ArrowDown: 1,
      ArrowUp: -1,
      PageDown: this.page,
      PageUp: -this.page,
      Home: -this.total,
      End: this.total,
    }[event.key];
    const plain = !event.ctrlKey && !event.metaKey && !event.altKey;
    if (step !== undefined) {
      event.preventDefault();
      this.go(this.at + step, event);
    } else if (event.key === " ") {
      event.preventDefault();
      const row = this.rowAt(this.at);
      if (row) this.toggle(this.at, row.dataset.name);
    } else if (event.key === "a" && (event.ctrlKey || event.metaKey)) {
      event.preventDefault();
      this.pickAll();
    } else if (event.key === "Enter" && event.target === this.$refs.scroll)
      this.rowAt(this.at)?.querySelector("a.open")?.click();
    else if (event.key === "ArrowLeft" && this.data.parent) location.href = this.data.parent;
    else if (event.key === "Escape") {
      this.picked = new Set();
      this.mark();
      this.inspect();
    } else if (plain) this.letter(event);
  },

  letter(event) {
    if (event.key === "?") return this.$refs.keylist.showModal();
    this.acts ||= JSON.parse(this.data.keys);
    const act = this.acts[event.key];
    if (!act) return;
    event.preventDefault();
    if (act === "filter") this.$refs.filter.focus();
    else if (act === "new-folder") this.newFolder();
    else if (act === "new-file") this.newFile();
    else if (act === "remove")
      this.$refs.inspector.querySelector("[data-act=remove-there], [data-act=remove-here]")?.click();
    else this.$refs.inspector.querySelector(`[data-act=${act}], [data-act-link=${act}]`)?.click();
  },

  async go(to, event) {
    this.at = Math.max(0, Math.min(to, this.total - 1));
    const scroll = this.$refs.scroll;
    const height = rowPx();
    const top = this.at * height;
    if (top < scroll.scrollTop) scroll.scrollTop = top;
    else if (top + 2 * height > scroll.scrollTop + scroll.clientHeight)
      scroll.scrollTop = top + 2 * height - scroll.clientHeight;
    await this.draw();
    const row = this.rowAt(this.at);
    if (event.shiftKey && this.anchor >= 0) return this.pickRange(this.anchor, this.at, false);
    if (!event.ctrlKey && row) return this.pickOnly(this.at, row.dataset.name);
    this.mark();
  },

  get page() {
    return Math.max(1, Math.floor(this.$refs.scroll.clientHeight / rowPx()) - 2);
  },
};
