// One box that goes to a site, a folder or a page by a part of its name (Ctrl K).
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  init() {
    addEventListener("nailer:goto", () => this.open());
    addEventListener("keydown", (event) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
        event.preventDefault();
        this.open();
      }
    });
  },
  open() {
    this.$refs.box.showModal();
    this.$refs.input.value = "";
    this.ask();
  },
  ask() {
    this.asking?.abort();
    this.asking = new AbortController();
    this.answered = this.find(this.$refs.input.value, this.asking.signal);
  },
  async find(wanted, signal) {
    try {
      this.$refs.results.innerHTML = await html(
        `/finder?q=${encodeURIComponent(wanted)}&site=${this.$root.dataset.site}`,
        { signal },
      );
      this.mark(0);
    } catch (error) {
      complain(error);
    }
  },
  // Enter means what was typed, not what an earlier answer still shows.
  async take() {
    await this.answered;
    this.options[this.at]?.click();
  },
  keys(event) {
    if (event.key === "ArrowDown") {
      event.preventDefault();
      this.mark(this.at + 1);
    } else if (event.key === "ArrowUp") {
      event.preventDefault();
      this.mark(this.at - 1);
    } else if (event.key === "Enter") this.take();
  },
  mark(at) {
    const options = this.options;
    this.at = Math.max(0, Math.min(at, options.length - 1));
    options.forEach((option, number) => option.setAttribute("aria-selected", String(number === this.at)));
    options[this.at]?.scrollIntoView({ block: "nearest" });
  },
  closeOutside(event) {
    if (event.target === this.$refs.box) this.$refs.box.close();
  },
  get options() {
    return [...this.$refs.results.querySelectorAll("[role=option]")];
  },
});
