// Packages of a site: one is selected and said beside the list; setting aside and bringing back, and the search for what
// breaks a page, as it goes.
import { html, json } from "../../lib/ask.js";
import { complain, notice } from "../../lib/notice.js";
import { grouped } from "../../lib/number.js";
import { list } from "../../lib/list.js";

const LOOK_EVERY_MS = 700;

export default () => ({
  ...list,
  base: "",
  timer: 0,
  none: true,
  searching: false,
  chosen: "no package",
  init() {
    this.base = `/sites/${this.$root.dataset.site}/packages`;
    this.fill(this.$refs.list).then(() => this.listed());
    this.follow();
  },
  destroy() {
    clearTimeout(this.timer);
  },
  // What came with the list for the parts round it.
  listed() {
    this.drawn();
    const part = (name) => this.$refs.list.querySelector(`template[data-${name}]`)?.innerHTML || "";
    if (this.$refs.boxes) {
      this.$refs.boxes.innerHTML = part("boxes");
      this.$refs.usual.textContent = part("usual");
      this.count();
    }
  },
  // While a search is under way the page asks how far it is; once it has ended the list is read anew.
  async follow() {
    clearTimeout(this.timer);
    const was = this.searching;
    await this.fill(this.$refs.found);
    this.searching = Boolean(this.$refs.found.querySelector("[data-busy]"));
    if (this.searching) this.timer = setTimeout(() => this.follow(), LOOK_EVERY_MS);
    else if (was) this.fill(this.$refs.list).then(() => this.listed());
  },
  boxes() {
    return [...(this.$refs.boxes?.querySelectorAll("[name=path]") || [])];
  },
  count() {
    const count = this.boxes().filter((one) => one.checked).length;
    this.none = count === 0;
    this.chosen = count ? `${grouped(count)} ${count === 1 ? "package" : "packages"}` : "no package";
  },
  act(event) {
    if (this.chose(event)) return;
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    const { path, name, aside } = button.dataset;
    switch (button.dataset.do) {
      case "unpick":
        return this.unpick();
      case "open-search":
        return this.$refs.searchbox.showModal();
      case "close-search":
        return this.$refs.searchbox.close();
      case "set-aside":
        return this.setAside(path, name);
      case "take-away":
        return this.takeAway(path, button);
      case "bring-back":
        return this.change(`bring-back/${aside}`, button);
      case "copy":
        return this.copy(path, button);
      case "give-up":
      case "go-on":
        return this.searched(button.dataset.do, {}, button);
    }
  },
  async copy(path, button) {
    button.disabled = true;
    try {
      await html(`/sites/${this.$root.dataset.site}/copies`, { body: { path } });
      notice("Nailer is making the copy. It appears under Copies.");
    } catch (error) {
      complain(error);
    }
    button.disabled = false;
  },
  setAside(path, name) {
    this.$refs.searchbox.close();
    const ask = {
      title: `Set ${name} aside`,
      verb: "Set aside",
      label: "Reason, for others",
      done: async ({ text }) => {
        this.$refs.list.innerHTML = await html(`${this.base}/set-aside`, { body: { path, why: text } });
        this.listed();
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  async takeAway(path, button) {
    button.disabled = true;
    try {
      location.href = (await json(`${this.base}/replacements/removal`, { body: { path } })).address;
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  async change(act, button) {
    button.disabled = true;
    try {
      this.$refs.list.innerHTML = await html(`${this.base}/${act}`, { body: {} });
      this.listed();
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  search(event) {
    const { address, must, must_not } = event.target.elements;
    const paths = this.boxes()
      .filter((one) => one.checked)
      .map((one) => one.value);
    const body = { address: address.value, must: must.value, must_not: must_not.value, paths };
    return this.searched("search", body);
  },
  async searched(act, body, button) {
    if (button) button.disabled = true;
    try {
      this.$refs.found.innerHTML = await html(`${this.base}/${act}`, { body });
      this.searching = true;
      this.follow();
    } catch (error) {
      if (button) button.disabled = false;
      complain(error);
    }
  },
});
