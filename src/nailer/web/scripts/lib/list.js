// A list of one line a thing, with a panel that says what is known of the selected one. Rows carry data-path; what the panel
// shows of one lies beside its row in a template; filters are chips that count what they show.
import { html } from "./ask.js";

export const list = {
  picked: "",
  wanted: "",
  kind: "all",
  rows() {
    return [...this.$refs.list.querySelectorAll("tr[data-path]")];
  },
  async fill(place) {
    try {
      place.innerHTML = await html(place.dataset.part);
    } catch (error) {
      place.textContent = error.message;
    }
  },
  // After the rows came anew: the filters, and the selected one where it is still there; on a wide screen the first.
  drawn() {
    if (this.$refs.filters)
      this.$refs.filters.innerHTML = this.$refs.list.querySelector("template[data-filters]")?.innerHTML || "";
    this.show();
    const rows = this.rows();
    const one = rows.find((row) => row.dataset.path === this.picked) || (innerWidth > 1000 ? rows[0] : null);
    if (one) this.pick(one, false);
    else this.unpick();
  },
  show() {
    const counts = {};
    for (const row of this.rows()) {
      const kinds = ["all", ...(row.dataset.kinds || "").split(" ")];
      for (const kind of kinds) counts[kind] = (counts[kind] || 0) + 1;
      row.hidden = !kinds.includes(this.kind) || !row.textContent.toLowerCase().includes(this.wanted);
    }
    this.$refs.filters?.querySelectorAll("[data-filter]").forEach((chip) => {
      const name = chip.dataset.filter;
      chip.querySelector("span").textContent = counts[name] || 0;
      chip.classList.toggle("on", name === this.kind);
      chip.setAttribute("aria-pressed", String(name === this.kind));
      chip.hidden = !counts[name] && name !== "all" && name !== this.kind;
    });
  },
  filter(event) {
    this.wanted = event.target.value.trim().toLowerCase();
    this.show();
  },
  pick(row, opens = true) {
    this.picked = row.dataset.path;
    this.rows().forEach((one) => {
      const on = one === row;
      one.classList.toggle("picked", on);
      one.setAttribute("aria-selected", String(on));
      one.tabIndex = on ? 0 : -1;
    });
    const said = this.$refs.list.querySelector(`template[data-of="${CSS.escape(this.picked)}"]`);
    if (said) this.$refs.inspector.innerHTML = said.innerHTML;
    this.$refs.inspector.classList.toggle("open", opens);
    this.picks?.(row);
  },
  unpick() {
    this.picked = "";
    this.rows().forEach((one) => one.classList.remove("picked"));
    this.$refs.inspector.classList.remove("open");
    this.$refs.inspector.replaceChildren();
    const first = this.rows()[0];
    if (first) first.tabIndex = 0;
  },
  // True where a click chose a filter or a row.
  chose(event) {
    const chip = event.target.closest("[data-filter]");
    if (chip) {
      this.kind = chip.dataset.filter;
      this.show();
      return true;
    }
    const row = event.target.closest("tr[data-path]");
    if (!row || event.target.closest("a, button")) return false;
    this.pick(row);
    return true;
  },
  key(event) {
    const row = event.target.closest?.("tr[data-path]");
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (!row || !step) return;
    event.preventDefault();
    const shown = this.rows().filter((one) => !one.hidden);
    const next = shown[shown.indexOf(row) + step];
    if (!next) return;
    this.pick(next, false);
    next.focus();
  },
};
