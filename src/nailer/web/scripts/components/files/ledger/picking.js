// Picking rows by mouse, one, several or a range; what is picked is known by its name.
import { json } from "../../../lib/ask.js";
import { complain, notice } from "../../../lib/notice.js";
import { BLOCK } from "./rows.js";

const LONG_MS = 450;
const MOVED_PX = 10;

export default {
  // A long press picks. A finger that moves scrolls.
  pressed(event) {
    this.justHeld = false; // a browser may send no click after a long press
    if (event.pointerType === "mouse") return;
    const row = event.target.closest("tr[data-name]");
    if (!row) return;
    const begun = { x: event.clientX, y: event.clientY };
    const timer = setTimeout(() => {
      end();
      this.justHeld = true;
      this.toggle(Number(row.dataset.index), row.dataset.name);
    }, LONG_MS);
    const moved = (one) => {
      if (Math.hypot(one.clientX - begun.x, one.clientY - begun.y) > MOVED_PX) end();
    };
    const end = () => {
      clearTimeout(timer);
      removeEventListener("pointermove", moved);
      removeEventListener("pointerup", end);
      removeEventListener("pointercancel", end);
    };
    addEventListener("pointermove", moved);
    addEventListener("pointerup", end);
    addEventListener("pointercancel", end);
  },

  // The menu that a long press would bring.
  held(event) {
    if (this.justHeld) event.preventDefault();
  },

  clicked(event) {
    const row = event.target.closest("tr[data-name]");
    if (!row) return;
    const index = Number(row.dataset.index);
    this.byTouch = event.pointerType === "touch" || event.pointerType === "pen";
    if (this.justHeld) {
      this.justHeld = false;
      event.preventDefault();
      return;
    }
    if (this.byTouch) return this.tapped(event, row, index);
    if (event.target.closest("a.open")) return;
    if (event.shiftKey && this.anchor >= 0) this.pickRange(this.anchor, index, event.ctrlKey || event.metaKey);
    else if (event.ctrlKey || event.metaKey || event.target.closest(".pick")) this.toggle(index, row.dataset.name);
    else this.pickOnly(index, row.dataset.name);
  },

  // Once something is picked, a tap picks more; before that it opens a folder, or says what can be done with a file.
  tapped(event, row, index) {
    if (this.picked.size || event.target.closest(".pick")) {
      event.preventDefault();
      return this.toggle(index, row.dataset.name);
    }
    if (event.target.closest("a.open")) return;
    if (row.hasAttribute("data-opens")) return row.querySelector("a.open").click();
    this.pickOnly(index, row.dataset.name);
    this.openSheet();
  },

  pickNone() {
    this.picked = new Set();
    this.closeSheet();
    this.mark();
    this.inspect();
  },

  // A folder opens; what becomes of a file is the person's own choice.
  doubled(event) {
    if (this.byTouch) return; // two quick taps pick and unpick
    const row = event.target.closest("tr[data-name]");
    if (!row) return;
    if (row.hasAttribute("data-opens")) return row.querySelector("a.open")?.click();
    const { double } = this.data;
    this.$refs.inspector.querySelector(`[data-act=${double}], [data-act-link=${double}]`)?.click();
  },

  pickOnly(index, name) {
    this.picked = new Set([name]);
    this.at = this.anchor = index;
    this.mark();
    this.inspect();
  },

  toggle(index, name) {
    this.picked.delete(name) || this.picked.add(name);
    this.at = this.anchor = index;
    this.mark();
    this.inspect();
  },

  async pickRange(from, to, add) {
    const [first, last] = from < to ? [from, to] : [to, from];
    const names = await this.names(first, last);
    this.picked = new Set(add ? [...this.picked, ...names] : names);
    this.at = to;
    this.mark();
    this.inspect();
  },

  async pickAll() {
    const all = await this.names(0, this.total);
    this.picked = this.picked.size >= all.length ? new Set() : new Set(all);
    this.mark();
    this.inspect();
  },

  async pickNewer() {
    const found = [];
    for (const joint of ["newer-here", "only-here"]) {
      const raw = this.query
        .split("&")
        .filter((part) => !part.startsWith("joint="))
        .join("&");
      found.push(...(await json(`${raw.replace("/ledger?", "/names?")}&joint=${joint}`).catch(() => [])));
    }
    if (!found.length) return notice("Nothing is newer here or only here.");
    this.picked = new Set(found);
    this.mark();
    this.inspect();
  },

  async names(first, last) {
    const known = [];
    for (let index = first; index <= Math.min(last, this.total - 1); index += 1) {
      const row = this.blocks.get(Math.floor(index / BLOCK))?.[index % BLOCK];
      if (!row)
        return json(`${this.query.replace("/ledger?", "/names?")}&from=${first}&to=${last}`).catch((error) => {
          complain(error);
          return [];
        });
      known.push(row.dataset.name);
    }
    return known;
  },

  mark() {
    for (const row of this.$refs.rows.querySelectorAll("tr[data-name]")) {
      row.setAttribute("aria-selected", String(this.picked.has(row.dataset.name)));
      const here = Number(row.dataset.index) === this.at;
      row.classList.toggle("at", here);
      if (here) {
        row.id = "row-at";
      } else if (row.id) row.removeAttribute("id");
    }
    this.showBar();
    this.$refs.scroll.setAttribute("aria-activedescendant", this.at >= 0 ? "row-at" : "");
  },

  rowAt(index) {
    return this.$refs.rows.querySelector(`tr[data-index="${index}"]`);
  },

  rowName(token) {
    return this.$refs.rows
      .querySelector(`tr[data-name="${CSS.escape(token)}"]`)
      ?.querySelector(".name-in > a, .name-in > span")?.textContent;
  },

  get wish() {
    return { here: this.data.here, there: this.data.there, names: [...this.picked] };
  },
};
