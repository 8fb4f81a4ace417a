// Rows come in blocks of a hundred; spacers stand for those that are not drawn.
import { html, json } from "../../../lib/ask.js";
import { complain } from "../../../lib/notice.js";
import { BLOCK, fitGaps, gap, rowPx, rowsOf } from "./rows.js";

const KEPT_BLOCKS = 40;
const SAID_AFTER_MS = 250;

export default {
  takeFirst() {
    this.rowPx = rowPx();
    const rows = [...this.$refs.rows.querySelectorAll("tr")];
    for (let block = 0; block * BLOCK < rows.length; block += 1) {
      const some = rows.slice(block * BLOCK, (block + 1) * BLOCK);
      if (some.length === BLOCK || block * BLOCK + some.length >= this.total) this.blocks.set(block, some);
    }
    this.drawn = "";
    this.draw();
  },

  scrolled() {
    cancelAnimationFrame(this.frame);
    this.frame = requestAnimationFrame(() => this.draw());
  },

  // Another width may mean another height of rows, and other columns.
  resized() {
    fitGaps(this.$refs.rows);
    if (this.rowPx === rowPx()) return;
    this.rowPx = rowPx();
    this.drawn = "";
    this.draw();
  },

  async draw() {
    const scroll = this.$refs.scroll,
      row = rowPx();
    const last = Math.max(0, Math.ceil(this.total / BLOCK) - 1);
    const first = Math.max(0, Math.min(last, Math.floor(scroll.scrollTop / row / BLOCK - 0.5)));
    const until = Math.min(last, Math.floor((scroll.scrollTop + scroll.clientHeight) / row / BLOCK + 0.5));
    const wanted = [];
    for (let block = first; block <= until; block += 1) wanted.push(block);
    const missing = wanted.filter((block) => !this.blocks.has(block));
    if (missing.length) await this.wait(Promise.all(missing.map((block) => this.load(block))));
    const state = wanted.join() + missing.length;
    if (state === this.drawn && !missing.length) return;
    this.drawn = wanted.join() + 0;
    const rows = wanted.flatMap((block) => this.blocks.get(block) || []);
    const below = Math.max(0, this.total - (until + 1) * BLOCK);
    this.$refs.rows.replaceChildren(gap(first * BLOCK), ...rows, gap(below));
    this.mark();
  },

  // Rows that take longer than a moment to come are said to be on their way.
  async wait(rows) {
    this.waits = (this.waits || 0) + 1;
    const said = setTimeout(() => this.$refs.scroll.classList.add("waits"), SAID_AFTER_MS);
    await rows;
    clearTimeout(said);
    this.waits -= 1;
    if (!this.waits) this.$refs.scroll.classList.remove("waits");
  },

  load(block) {
    this.loading ||= new Map();
    if (!this.loading.has(block)) {
      const query = this.query;
      const asked = html(`${query}&offset=${block * BLOCK}&limit=${BLOCK}`)
        .then((text) => {
          if (query !== this.query) return;
          this.blocks.set(block, rowsOf(text));
          if (this.blocks.size > KEPT_BLOCKS) this.blocks.delete(this.blocks.keys().next().value);
        })
        .catch(complain)
        .finally(() => this.loading.delete(block));
      this.loading.set(block, asked);
    }
    return this.loading.get(block);
  },

  async reload() {
    const query = this.query;
    let text;
    try {
      text = await html(`${query}&head=1&limit=${BLOCK}`);
    } catch (error) {
      return complain(error);
    }
    if (query !== this.query) return;
    const parts = document.createElement("div");
    parts.innerHTML = text;
    const rows = parts.querySelector("[data-part=rows]");
    this.$refs.chips.innerHTML = parts.querySelector("[data-part=chips]").innerHTML;
    this.total = Number(rows.dataset.total);
    this.blocks.clear();
    this.blocks.set(0, rowsOf(rows.innerHTML));
    this.$refs.empty.hidden = this.total > 0;
    this.emptyInspector = parts.querySelector("[data-part=inspector]").innerHTML;
    if (!this.picked.size) this.$refs.inspector.innerHTML = this.emptyInspector;
    this.drawn = "";
    await this.draw();
  },

  filterSoon() {
    clearTimeout(this.filterTimer);
    this.filterTimer = setTimeout(() => this.filter(), 150);
  },

  filter() {
    const url = new URL(this.query, location.href);
    const raw = url.search
      .slice(1)
      .split("&")
      .filter((part) => part && !part.startsWith("text="));
    if (this.$refs.filter.value) raw.push(`text=${encodeURIComponent(this.$refs.filter.value)}`);
    this.query = `${url.pathname}?${raw.join("&")}`;
    this.$refs.scroll.scrollTop = 0;
    this.at = -1;
    this.reload();
  },

  clearFilter() {
    this.$refs.filter.value = "";
    this.filter();
    this.$refs.scroll.focus();
  },

  async rollUp() {
    try {
      const answer = await json(`/sites/${this.data.site}/roll-up`, {
        body: { here: this.data.here, there: this.data.there, names: [] },
      });
      if (answer.changed) this.reload();
    } catch (error) {
      complain(error);
    }
  },
};
