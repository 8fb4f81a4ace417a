// One replacement: its plan is decided, then carried out; the page follows it.
import { html, json, put } from "../../lib/ask.js";
import { mergedText } from "../../lib/merge.js";
import { complain, notice } from "../../lib/notice.js";

const LOOK_EVERY_MS = 500;

export default () => ({
  at: "",
  timer: 0,
  joining: "",
  init() {
    this.at = this.$root.dataset.at;
    this.onSettle = (event) => this.settled(event.detail);
    addEventListener("nailer:settle", this.onSettle);
    this.follow();
  },
  destroy() {
    clearTimeout(this.timer);
    removeEventListener("nailer:settle", this.onSettle);
  },
  async follow() {
    try {
      this.show(await html(`${this.at}/state`));
    } catch (error) {
      this.$refs.body.textContent = error.message;
    }
  },
  // What is folded up stays so while choices are made.
  show(text) {
    clearTimeout(this.timer);
    const body = this.$refs.body;
    const folds = new Map([...body.querySelectorAll("details")].map((one) => [one.dataset.group, one.open]));
    const focused = document.activeElement?.id;
    body.innerHTML = text;
    for (const one of body.querySelectorAll("details")) {
      if (folds.has(one.dataset.group)) one.open = folds.get(one.dataset.group);
    }
    if (focused) document.getElementById(focused)?.focus();
    if (body.querySelector("[data-busy]")) this.timer = setTimeout(() => this.follow(), LOOK_EVERY_MS);
  },
  async post(act, body = {}) {
    try {
      this.show(await html(`${this.at}/${act}`, { body }));
    } catch (error) {
      complain(error);
      this.follow();
    }
  },
  change(event) {
    const { target } = event;
    if (target.matches("[data-take-of]") && target.value) {
      return this.post("choose", { below: target.closest("tr").dataset.below, take: target.value });
    }
    if (target.matches("[name=in-place]")) return this.post("in-place", { wanted: target.checked });
    if (target.matches("[name=original]")) return this.original(target.files[0]);
  },
  async original(file) {
    notice(`Reading ${file.name} …`);
    try {
      await put(`${this.at}/original?name=${encodeURIComponent(file.name)}`, file);
    } catch (error) {
      complain(error);
    }
    this.follow();
  },
  act(event) {
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    const below = button.closest("tr")?.dataset.below;
    switch (button.dataset.do) {
      case "all":
        return this.post("choose", { fates: button.dataset.fates.split(" "), take: button.dataset.take });
      case "differ":
        return this.differ(button, below);
      case "join":
        return this.join(below);
      case "back":
      case "go-on":
      case "reopen":
        button.disabled = true;
        return this.post(button.dataset.do);
      case "drop":
        return this.drop();
      case "let-go":
        return this.letGo(button.dataset);
    }
  },
  async differ(button, below) {
    const row = button.closest("tr");
    if (row.nextElementSibling?.matches(".differs-row")) return row.nextElementSibling.remove();
    try {
      const shown = document.createElement("tr");
      const cell = document.createElement("td");
      shown.className = "differs-row";
      cell.colSpan = row.cells.length;
      cell.innerHTML = await html(`${this.at}/difference?below=${below}`);
      shown.append(cell);
      row.after(shown);
    } catch (error) {
      complain(error);
    }
  },
  join(below) {
    this.joining = below;
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `${this.at}/join?below=${below}` } }));
  },
  async settled(decision) {
    if (!this.joining) return;
    const below = this.joining;
    this.joining = "";
    await this.post("joined", { below, text: mergedText(decision) });
  },
  async carryOut() {
    const form = this.$refs.body.querySelector("form");
    const problem = form.querySelector("[data-part=problem]");
    problem.textContent = "";
    try {
      this.show(await html(`${this.at}/carry-out`, { body: { typed: form.elements.typed?.value ?? "" } }));
    } catch (error) {
      problem.textContent = error.message;
      if (error.status === 409) this.follow();
    }
  },
  async drop() {
    try {
      location.href = (await json(`${this.at}/drop`, { body: {} })).address;
    } catch (error) {
      complain(error);
    }
  },
  letGo({ site, folder, name }) {
    const body = { side: "there", here: folder, there: folder, names: [name] };
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `/sites/${site}/plans/remove`, body } }));
  },
});
