// A letter in: pasted, read by Nailer, shown with its marks; every field can be corrected by picking another word.
import { json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
import { offerSignIn, protocolChanged, ready, set, takeApart, why } from "../../lib/siteform.js";

const WORDS = {
  host: "the server",
  user_name: "the user",
  password: "the password",
  port: "the port",
  start_there: "the start folder",
  web_address: "the web address",
};
const INPUT = { web_address: "web_address_0" };

export default () => ({
  reading: null,
  account: 0,
  picked: null,
  init() {
    ready(this.$refs.form);
    const given = JSON.parse(this.$root.querySelector("[data-reading]").textContent);
    if (given) this.$nextTick(() => this.show(given));
    else this.$refs.letter.focus();
  },
  typed() {
    clearTimeout(this.pause);
    this.pause = setTimeout(() => this.read(), 350);
  },
  async read() {
    const text = this.$refs.letter.value;
    if (!text.trim()) return;
    try {
      this.show(await json("/sites/letter", { body: { text } }));
    } catch (error) {
      complain(error);
    }
  },
  show(reading) {
    this.reading = reading;
    this.$refs.letter.value = "";
    this.useAccount(0);
  },
  useAccount(at) {
    this.account = at;
    const { fields, name } = this.reading.accounts[at];
    const form = this.$refs.form;
    for (const field of ["host", "protocol", "port", "user_name", "password", "start_there", "web_address"]) {
      const found = fields[field],
        input = INPUT[field] || field;
      set(form, { [input]: found ? found.value : field === "protocol" ? "sftp" : "" });
      why(
        form,
        input,
        found ? found.why : field === "port" ? "" : "not found in the letter",
        found ? (found.guessed ? "was-guessed" : "was-read") : "",
      );
    }
    const folder = name.toLowerCase().replace(/[^a-z0-9-]+/g, "-");
    if (name && !form.elements.name.value) {
      set(form, { name });
      why(form, "name", "guessed from the web address", "was-guessed");
    }
    const root = form.elements.start_here.placeholder.split("/")[0];
    if (folder && root && !form.elements.start_here.value) {
      set(form, { start_here: `${root}/${folder}` });
      why(form, "start_here", "will be created", "was-guessed");
    }
    offerSignIn(form);
    this.draw();
  },
  draw() {
    const pieces = [];
    for (const segment of this.reading.accounts[this.account].segments) {
      if (segment.kind === "text") pieces.push(...this.wordsOf(segment.text));
      else pieces.push(this.markOf(segment));
    }
    this.$refs.marked.replaceChildren(...pieces);
  },
  wordsOf(text) {
    return text
      .split(/(\s+)/)
      .filter(Boolean)
      .map((word) => {
        if (/^\s/.test(word)) return document.createTextNode(word);
        const bare = word.replace(/^[("'“„«]+|[)"'”».,;:!?]+$/g, "");
        if (!bare) return document.createTextNode(word);
        const span = document.createElement("span");
        span.className = "word";
        span.textContent = word;
        span.addEventListener("click", () => this.pick(span, bare));
        return span;
      });
  },
  markOf(segment) {
    const mark = document.createElement(segment.secret || segment.kind === "blank" ? "span" : "button");
    if (mark.tagName === "BUTTON") {
      mark.type = "button";
      mark.addEventListener("click", () => this.pick(mark, segment.text));
    }
    mark.className = `mark ${segment.kind === "mark" ? "" : segment.kind}`;
    mark.textContent = segment.kind === "blank" ? "␣" : segment.text;
    mark.title = segment.field ? `${WORDS[segment.field] || segment.field}: ${segment.why}` : segment.why;
    return mark;
  },
  pick(element, text) {
    this.picked = { element, text };
    this.$nextTick(() => this.$refs.menu.querySelector("button")?.focus());
  },
  assign(choice) {
    const form = this.$refs.form,
      input = INPUT[choice.field] || choice.field;
    set(form, { [input]: this.picked.text });
    why(form, input, "selected by you in the letter", "was-read");
    this.picked.element.classList.add("mark");
    this.picked.element.classList.remove("aside");
    if (choice.field === "password") this.picked.element.textContent = "•".repeat(12);
    this.leaveMenu();
  },
  leaveMenu() {
    this.picked = null;
  },
  again() {
    this.reading = null;
    this.$nextTick(() => this.$refs.letter.focus());
  },
  changed(event) {
    if (event.target.name === "protocol") protocolChanged(this.$refs.form);
    if (event.target.name === "host") takeApart(this.$refs.form).catch(complain);
    offerSignIn(this.$refs.form);
    if (event.target.name) why(this.$refs.form, event.target.name, "", "");
  },
  get unread() {
    return this.reading === null;
  },
  get isRead() {
    return this.reading !== null;
  },
  get notes() {
    return this.reading ? this.reading.notes : [];
  },
  get about() {
    if (!this.reading) return "";
    const { fields, segments } = this.reading.accounts[this.account];
    const aside = segments.filter((one) => one.kind === "aside").map((one) => one.why.replace("left aside: ", ""));
    const found = Object.values(fields).filter((one) => !one.guessed).length;
    return (
      `Found ${found} of ${Object.keys(WORDS).length} details. Check the guesses and fill in the rest.` +
      (aside.length ? ` Ignored: ${[...new Set(aside)].join("; ")}.` : "")
    );
  },
  get accounts() {
    return (this.reading ? this.reading.accounts : []).map((one, at) => ({
      at,
      label: one.fields.user_name ? one.fields.user_name.value : `account ${at + 1}`,
      on: at === this.account ? "true" : "false",
    }));
  },
  get severalAccounts() {
    return this.accounts.length > 1;
  },
  get picking() {
    return this.picked !== null;
  },
  get pickedText() {
    return this.picked ? this.picked.text : "";
  },
  get choices() {
    return Object.entries(WORDS).map(([field, word]) => ({ field, word }));
  },
});
