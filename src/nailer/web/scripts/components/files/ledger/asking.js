// What a person asks for: plans, and small changes after one question.
import { json } from "../../../lib/ask.js";
import { notice } from "../../../lib/notice.js";

export default {
  transfer(side) {
    this.plan("transfer", { ...this.wish, to_side: side });
  },

  plan(kind, body, files) {
    dispatchEvent(
      new CustomEvent("nailer:plan", { detail: { url: `/sites/${this.data.site}/plans/${kind}`, body, files } }),
    );
  },

  newFile() {
    const folder = { here: this.data.here, there: this.data.there };
    const done = async ({ text, side, also }) => {
      const ending = text.toLowerCase().match(/\.(\w+)$/)?.[1] || "";
      const template = { html: "page", htm: "page", css: "style", cgi: "script", sh: "script" }[ending] || "";
      const { href } = await json(`/sites/${this.data.site}/new-file`, {
        body: { side, folder: folder[side], name: text, template: also ? template : "" },
      });
      location.href = href;
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "New file",
          verb: "Create",
          label: "Name",
          value: "",
          sides: ["here", "there"],
          also: "start from a template for the file type: page, style sheet or script",
          done,
        },
      }),
    );
  },

  newFolder() {
    const folder = { here: this.data.here, there: this.data.there };
    const done = async ({ text, side }) => {
      const { pick } = await json(`/sites/${this.data.site}/folders`, {
        body: { side, folder: folder[side], name: text },
      });
      // It is picked, so that Enter goes in.
      location.href = `/sites/${this.data.site}/files?here=${this.data.here}&there=${this.data.there}&pick=${pick}`;
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: { title: "New folder", verb: "Create", label: "Name", sides: ["here", "there"], done },
      }),
    );
  },

  rename() {
    const token = [...this.picked][0];
    const row = this.$refs.rows.querySelector(`tr[data-name="${CSS.escape(token)}"]`);
    const sides = ["here", "there"].filter((side) =>
      row?.querySelector(side === "here" ? ".h.size" : ".t.size")?.textContent.trim(),
    );
    const done = async ({ text, side, also }) => {
      const folder = side === "here" ? this.data.here : this.data.there;
      const body = { side, path: `${folder.replace(/\/$/, "")}/${token}`, name: text };
      if (also) {
        this.renamedAway = body;
        return setTimeout(() => this.plan("rename", body));
      }
      await json(`/sites/${this.data.site}/rename`, { body });
      this.picked = new Set();
      this.changed();
      this.sayOldAddress(body);
    };
    const side = sides.includes("there") ? "there" : "here";
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "Rename",
          verb: "Rename",
          label: "Its new name",
          also: "Looking for links to it …",
          alsoOf: (chosen) => this.referrers(chosen, token),
          value: this.rowName(token) || "",
          sides,
          side,
          done,
        },
      }),
    );
  },

  // How often pages and styles refer to a name: rewriting them is proposed where any does.
  async referrers(side, token) {
    const folder = side === "here" ? this.data.here : this.data.there;
    const path = `${folder.replace(/\/$/, "")}/${token}`;
    const { count, text } = await json(`/sites/${this.data.site}/references?side=${side}&path=${path}`);
    return count
      ? { text: `Also update the ${text}; you can read the plan first`, checked: true }
      : { text, checked: false };
  },

  // What visitors get at the address that a name had.
  async sayOldAddress({ side, path }) {
    if (side !== "there") return;
    const { said } = await json(`/sites/${this.data.site}/old-address?path=${path}`).catch(() => ({ said: "" }));
    if (said) notice(said);
  },

  // The copy here is watched; what another program saves is sent, or offered. Nothing is watched before it is said how.
  ownProgram(path) {
    const done = async ({ choice }) => {
      const sends = choice === "send";
      const { place } = await json(`/sites/${this.data.site}/own-files`, { body: { path, sends } });
      notice(
        `Open ${place} in your program. ${sends ? "Nailer uploads each save." : "Nailer asks before it uploads a save."}`,
        {
          href: "/drafts",
          link: "When you save",
        },
      );
      this.changed();
    };
    const choices = [
      { value: "offer", word: "Ask me each time", help: "nothing is uploaded without your OK" },
      { value: "send", word: "Upload each save", help: "uploads automatically; the old version is kept" },
    ];
    dispatchEvent(
      new CustomEvent("nailer:ask", { detail: { title: "Edit in my program", verb: "Open", choices, done } }),
    );
  },

  pack() {
    const first = this.rowName([...this.picked][0]);
    const done = async ({ text }) => {
      await json(`/sites/${this.data.site}/pack`, { body: { ...this.wish, name: text } });
      this.changed();
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "Create an archive here",
          verb: "Create",
          label: "Its name (.zip, .tar.gz)",
          value: `${first || "files"}.zip`,
          sides: ["here"],
          side: "here",
          done,
        },
      }),
    );
  },
};
