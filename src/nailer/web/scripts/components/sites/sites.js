// The list of sites: search as you type, drag a row to another place or group, the same by Alt and the arrow keys.
import { json } from "../../lib/ask.js";
import { complain, notice } from "../../lib/notice.js";
export default () => ({
  dragged: null,
  init() {
    const on = (name, act) => this.$root.addEventListener(name, act);
    on("dragstart", (event) => {
      this.dragged = event.target.closest("[data-site]");
      event.dataTransfer.effectAllowed = "move";
      this.dragged?.classList.add("dragged");
    });
    on("dragend", () => this.drop());
    on("dragover", (event) => this.over(event));
    on("drop", (event) => event.preventDefault());
    on("keydown", (event) => this.key(event));
    on("toggle", (event) => this.only(event.target));
    this.$root
      .querySelectorAll("details.menu")
      .forEach((menu) => menu.addEventListener("toggle", () => this.only(menu)));
    document.addEventListener("click", (event) => {
      if (!event.target.closest("details.menu")) this.only(null);
    });
  },
  only(menu) {
    if (menu && !menu.open) return;
    this.$root.querySelectorAll("details.menu[open]").forEach((one) => {
      if (one !== menu) one.open = false;
    });
  },
  search(event) {
    const wanted = event.target.value.trim().toLowerCase();
    let left = 0;
    this.$root.querySelectorAll("[data-site]").forEach((row) => {
      row.hidden = !row.dataset.words.includes(wanted);
      left += row.hidden ? 0 : 1;
    });
    this.$root.querySelectorAll("[data-group]").forEach((group) => {
      group.hidden = Boolean(wanted) && !group.querySelector("[data-site]:not([hidden])");
    });
    this.$root.querySelector("[data-nothing]").hidden = !wanted || left > 0;
  },
  over(event) {
    const group = event.target.closest("[data-group]");
    if (!this.dragged || !group || group.dataset.group === "-1") return;
    event.preventDefault();
    const row = event.target.closest("[data-site]");
    if (!row) {
      if (!group.querySelector("[data-site]")) group.append(this.dragged);
      return;
    }
    if (row === this.dragged) return;
    const { top, height } = row.getBoundingClientRect();
    row[event.clientY > top + height / 2 ? "after" : "before"](this.dragged);
  },
  drop() {
    this.dragged?.classList.remove("dragged");
    this.dragged = null;
    this.store();
  },
  key(event) {
    const row = event.target.closest("[data-site]");
    if (!row || !event.altKey || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
    event.preventDefault();
    this.move(row, event.key === "ArrowUp" ? -1 : 1, event.target);
  },
  up(event) {
    this.move(event.target.closest("[data-site]"), -1, event.target);
  },
  down(event) {
    this.move(event.target.closest("[data-site]"), 1, event.target);
  },
  move(row, by, focus) {
    const next = by < 0 ? row.previousElementSibling : row.nextElementSibling;
    if (next?.matches("[data-site]")) next[by < 0 ? "before" : "after"](row);
    else {
      const groups = [...this.$root.querySelectorAll("[data-group]")].filter((one) => one.dataset.group !== "-1");
      const group = groups[groups.indexOf(row.closest("[data-group]")) + by];
      if (!group) return;
      if (by < 0) (group.querySelector("[data-site]:last-of-type") || group.querySelector(".group-title")).after(row);
      else group.querySelector(".group-title").after(row);
    }
    focus.focus();
    this.store();
  },
  async store() {
    const sites = [...this.$root.querySelectorAll("[data-site]")].map((row) => ({
      site: Number(row.dataset.site),
      group: Number(row.closest("[data-group]").dataset.group) || null,
    }));
    try {
      await json(this.$root.dataset.arrange, { body: { sites: sites.filter((one) => one.group !== -1) } });
      notice("The order is stored.");
    } catch (error) {
      complain(error);
    }
  },
});
