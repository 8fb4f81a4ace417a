// Verified copies of a site: one is selected and said beside the list; making one, its test, its restore, and daily copies.
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
import { list } from "../../lib/list.js";

const LOOK_EVERY_MS = 700;

export default () => ({
  ...list,
  at: "",
  timer: 0,
  init() {
    this.at = this.$root.dataset.at;
    this.follow();
  },
  destroy() {
    clearTimeout(this.timer);
  },
  // While a copy is being made the page asks how far it is.
  async follow() {
    clearTimeout(this.timer);
    await this.fill(this.$refs.list);
    this.shown();
  },
  shown() {
    this.drawn();
    clearTimeout(this.timer);
    if (this.$refs.list.querySelector("[data-busy]")) this.timer = setTimeout(() => this.follow(), LOOK_EVERY_MS);
  },
  async send(act, body, button) {
    button.disabled = true;
    try {
      this.$refs.list.innerHTML = await html(`${this.at}${act}`, { body });
      this.shown();
    } catch (error) {
      complain(error);
    }
    button.disabled = false;
  },
  act(event) {
    if (this.chose(event)) return;
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    const { copy, name, path, time } = button.dataset;
    switch (button.dataset.do) {
      case "unpick":
        return this.unpick();
      case "copy":
        return this.send("", { path }, button);
      case "test-restore":
        return this.send(`/${copy}/test-restore`, {}, button);
      case "restore":
        return this.plan(`${this.at}/${copy}/restore`);
      case "drop":
        return this.forget(copy, name);
      case "add-time":
        return this.addTime(button);
      case "drop-time":
        return this.send(`/times/${time}/drop`, {}, button);
    }
  },
  plan(url) {
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body: { below: "" } } }));
  },
  addTime(button) {
    const { path, at, daily, weekly, monthly } = button.form.elements;
    const stay = { daily: Number(daily.value), weekly: Number(weekly.value), monthly: Number(monthly.value) };
    return this.send("/times", { path: path.value, at: at.value, ...stay }, button);
  },
  forget(copy, name) {
    const help = "Files that only this copy contains are deleted.";
    const ask = {
      title: `Delete the copy of ${name}?`,
      verb: "Delete",
      choices: [{ value: "forget", word: "Delete copy", help }],
      done: async () => {
        this.$refs.list.innerHTML = await html(`${this.at}/${copy}/drop`, { body: {} });
        this.shown();
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
});
