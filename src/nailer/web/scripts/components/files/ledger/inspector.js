// What is picked, said beside the rows, and its buttons.
import { html, json } from "../../../lib/ask.js";
import { grouped } from "../../../lib/number.js";
import { complain, notice } from "../../../lib/notice.js";
import { takeBack } from "../../../lib/takeback.js";

export default {
  // On a phone: a bar that says how many are picked, with the likeliest act, and the rest as a sheet from below.
  showBar() {
    const count = this.picked.size;
    this.$refs.bar.hidden = !count;
    this.$refs.barcount.textContent = `${grouped(count)} selected`;
    if (!count) this.closeSheet();
  },

  get likeliest() {
    const { inspector } = this.$refs;
    return inspector.querySelector(".acts .btn:not(.second)") || inspector.querySelector(".acts .btn");
  },

  nameBarAct() {
    const main = this.likeliest;
    const { baract } = this.$refs;
    baract.hidden = !main;
    if (!main) return;
    const words = [...main.childNodes].filter((one) => one.nodeName !== "KBD").map((one) => one.textContent);
    baract.textContent = words.join("").trim();
    baract.className = main.className.replace("wide", "");
  },

  barAct() {
    this.likeliest?.click();
  },

  openSheet() {
    this.$refs.inspector.classList.add("open");
    this.$refs.shade.hidden = false;
  },

  closeSheet() {
    this.$refs.inspector.classList.remove("open");
    this.$refs.shade.hidden = true;
  },

  inspect() {
    clearTimeout(this.inspectTimer);
    this.asking?.abort();
    this.emptyInspector ||= this.$refs.inspector.innerHTML;
    if (!this.picked.size) {
      this.$refs.inspector.innerHTML = this.emptyInspector;
      return;
    }
    this.inspectTimer = setTimeout(() => this.askInspector(), 60);
  },

  async askInspector() {
    this.asking = new AbortController();
    try {
      const open = [...this.$refs.inspector.querySelectorAll("[data-fold][open]")].map((one) => one.dataset.fold);
      this.$refs.inspector.innerHTML = await html(`/sites/${this.data.site}/inspect`, {
        body: this.wish,
        signal: this.asking.signal,
      });
      // What was unfolded for one name is unfolded for the next.
      for (const fold of open) this.$refs.inspector.querySelector(`[data-fold=${fold}]`)?.setAttribute("open", "");
      this.nameBarAct();
    } catch (error) {
      complain(error);
    }
  },

  async acted(event) {
    const back = event.target.closest("[data-take-back]");
    if (back) {
      if (await takeBack(back, this.data.site)) this.changed();
      return;
    }
    const button = event.target.closest("[data-act]");
    if (!button) return;
    const act = button.dataset.act;
    this.closeSheet();
    if (act === "upload") this.transfer("there");
    else if (act === "download") this.transfer("here");
    else if (act === "look")
      dispatchEvent(
        new CustomEvent("nailer:plan", {
          detail: { url: `/sites/${this.data.site}/look`, body: { ...this.wish, side: button.dataset.side } },
        }),
      );
    else if (act === "copy") this.plan("copy-form", this.wish);
    else if (act === "remove-there") this.plan("remove", { ...this.wish, side: "there" });
    else if (act === "remove-here") this.plan("remove", { ...this.wish, side: "here" });
    else if (act === "rename") this.rename(button);
    else if (act === "first-page") {
      const detail = {
        url: `/sites/${this.data.site}/checks/first-page`,
        body: { side: button.dataset.side, path: button.dataset.path },
      };
      dispatchEvent(new CustomEvent("nailer:plan", { detail }));
    } else if (act === "live") this.live(button);
    else if (act === "own-program") this.ownProgram(button.dataset.path);
    else if (act === "pack") this.pack();
    else if (act === "tray-put") this.tray("tray", this.wish);
    else if (act === "tray-empty") this.tray("tray/empty", {});
    else if (act === "tray-there" || act === "tray-here") this.plan("transfer-tray", { to_side: act.slice(5) });
    else if (act === "unpick") this.pickNone();
    else if (act === "let-go") this.setMark("let-go", { side: button.dataset.side, path: button.dataset.path });
    else if (act === "unpack-there") {
      notice("The server is unpacking …");
      this.plan("unpack-there", this.wish);
    } else if (act === "pick-newer") this.pickNewer();
  },

  submitted(event) {
    const form = event.target.closest("form[data-form=keep]");
    if (!form) return;
    event.preventDefault();
    const { why, until } = form.elements;
    this.setMark("keep", { ...form.dataset, why: why.value, until: until.value });
  },

  // Names go into the tray, or it is emptied; what was picked is picked no longer.
  async tray(address, body) {
    try {
      const { count, text } = await json(`/sites/${this.data.site}/${address}`, { body });
      if (count) notice(`In the tray: ${text}. They stay there until you transfer them.`);
      this.picked = new Set();
      this.changed();
    } catch (error) {
      complain(error);
    }
  },

  // A keep mark is set or taken off.
  async setMark(act, { side, path, why, until }) {
    const body = act === "keep" ? { side, path, why, until } : { side, path };
    try {
      await json(`/sites/${this.data.site}/${act}`, { body });
      this.changed();
    } catch (error) {
      complain(error);
    }
  },

  async live(button) {
    button.disabled = true;
    const place = this.$refs.inspector.querySelector("[data-part=live]");
    try {
      place.innerHTML = await html(`/sites/${this.data.site}/live?path=${button.dataset.path}`, { body: {} });
    } catch (error) {
      place.textContent = error.message;
    }
    button.disabled = false;
  },
};
