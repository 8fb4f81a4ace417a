// Which connections are open now, at the head of every page.
import { json } from "../../lib/ask.js";
const EVERY_MS = 6000;
export default () => ({
  found: [],
  init() {
    this.look();
    this.timer = setInterval(() => {
      if (!document.hidden) this.look();
    }, EVERY_MS);
  },
  destroy() {
    clearInterval(this.timer);
  },
  async look() {
    this.found = (await json("/connections").catch(() => ({ open: this.found }))).open;
  },
  get some() {
    return this.found.length > 0;
  },
  get text() {
    return this.found.length === 1 ? this.found[0].name : `${this.found.length} sites`;
  },
  get title() {
    return this.found.map((one) => `${one.name}: ${one.lines} open`).join("\n");
  },
  get address() {
    return this.found.length === 1 ? `/sites/${this.found[0].site}/connection` : "/sites";
  },
});
