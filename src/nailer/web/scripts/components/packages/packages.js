// Packages of a site: setting aside and bringing back, and the search for what breaks a page, as it goes.
import { html, json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
import { grouped } from "../../lib/number.js";

const LOOK_EVERY_MS = 700;

export default () => ({
  base: "",
  timer: 0,
  copying: 0,
  none: true,
  chosen: "no package",
  init() {
    this.base = `/sites/${this.$root.dataset.site}/packages`;
    this.fill(this.$refs.list).then(() => this.count());
    this.follow();
    this.followCopies();
    this.fill(this.$refs.scratch);
  },
  destroy() {
    clearTimeout(this.timer);
    clearTimeout(this.copying);
  },
  async fill(place) {
    try {
      place.innerHTML = await html(place.dataset.part);
    } catch (error) {
      place.textContent = error.message;
    }
  },
  // While a search is under way the page asks how far it is; once it has ended the list is read anew.
  async follow() {
    clearTimeout(this.timer);
    const was = Boolean(this.$refs.found.querySelector("[data-busy]"));
    await this.fill(this.$refs.found);
    const busy = Boolean(this.$refs.found.querySelector("[data-busy]"));
    if (busy) this.timer = setTimeout(() => this.follow(), LOOK_EVERY_MS);
    else if (was) this.fill(this.$refs.list).then(() => this.count());
  },
  async followCopies() {
    clearTimeout(this.copying);
    await this.fill(this.$refs.copies);
    if (this.$refs.copies.querySelector("[data-busy]")) {
      this.copying = setTimeout(() => this.followCopies(), LOOK_EVERY_MS);
    }
  },
  async copies(act, body, button) {
    button.disabled = true;
    try {
      this.$refs.copies.innerHTML = await html(`${this.base}/copies${act}`, { body });
      this.followCopies();
    } catch (error) {
      complain(error);
    }
    button.disabled = false;
  },
  scratchWish({ why, hours }) {
    return { why: why.value, hours: Number(hours.value) };
  },
  async scratch(act, body, button) {
    button.disabled = true;
    try {
      this.$refs.scratch.innerHTML = await html(`${this.base}/scratch${act}`, { body });
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  addTime(button) {
    const { path, at, daily, weekly, monthly } = button.form.elements;
    const stay = { daily: Number(daily.value), weekly: Number(weekly.value), monthly: Number(monthly.value) };
    return this.times("", { path: path.value, at: at.value, ...stay }, button);
  },
  async times(act, body, button) {
    button.disabled = true;
    try {
      this.$refs.copies.innerHTML = await html(`${this.base}/copy-times${act}`, { body });
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  forget(copy, name) {
    const help = "Files that only this copy contains are deleted.";
    const ask = {
      title: `Delete the copy of ${name}?`,
      verb: "Delete",
      choices: [{ value: "forget", word: "Delete copy", help }],
      done: async () => {
        this.$refs.copies.innerHTML = await html(`${this.base}/copies/${copy}/drop`, { body: {} });
      },
    };
    dispatchEvent(new CustomEvent("nailer:ask", { detail: ask }));
  },
  boxes() {
    return [...this.$refs.list.querySelectorAll("[name=path]")];
  },
  count(event) {
    if (event?.target.matches("[data-all]")) this.boxes().forEach((one) => (one.checked = event.target.checked));
    const count = this.boxes().filter((one) => one.checked).length;
    this.none = count === 0;
    this.chosen = count ? `${grouped(count)} ${count === 1 ? "package" : "packages"}` : "no package";
  },
  act(event) {
    const button = event.target.closest("button[data-do]");
    if (!button) return;
    const row = button.closest("[data-path]");
    switch (button.dataset.do) {
      case "set-aside":
        return this.setAside(row.dataset.path, row.dataset.name);
      case "take-away":
        return this.takeAway(row.dataset.path, button);
      case "bring-back":
        return this.change(`bring-back/${button.dataset.aside}`, {}, button);
      case "copy":
        return this.copies("", { path: button.dataset.path }, button);
      case "rehearse":
        return this.copies(`/${button.dataset.copy}/rehearse`, {}, button);
      case "scratch-make":
        return this.scratch("", this.scratchWish(button.form.elements), button);
      case "scratch-longer":
        return this.scratch(`/${button.dataset.area}/longer`, { hours: 24 }, button);
      case "scratch-end":
        return this.scratch(`/${button.dataset.area}/end`, {}, button);
      case "add-time":
        return this.addTime(button);
      case "drop-time":
        return this.times(`/${button.dataset.time}/drop`, {}, button);
      case "drop":
        return this.forget(button.dataset.copy, button.dataset.name);
      case "give-up":
      case "go-on":
        return this.searching(button.dataset.do, {}, button);
    }
  },
  setAside(path, name) {
    const ask = {
      title: `Set ${name} aside`,
      verb: "Set aside",
      label: "Reason, for others",
      done: async ({ text }) => {
        this.$refs.list.innerHTML = await html(`${this.base}/set-aside`, { body: { path, why: text } });
        this.count();
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
  async change(act, body, button) {
    button.disabled = true;
    try {
      this.$refs.list.innerHTML = await html(`${this.base}/${act}`, { body });
      this.count();
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
    return this.searching("search", body);
  },
  async searching(act, body, button) {
    if (button) button.disabled = true;
    try {
      this.$refs.found.innerHTML = await html(`${this.base}/${act}`, { body });
      this.follow();
    } catch (error) {
      if (button) button.disabled = false;
      complain(error);
    }
  },
});
