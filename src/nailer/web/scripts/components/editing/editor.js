// The editor: the text itself, its draft as it is typed, saving, merging, findings, versions, and what visitors get.
import * as cm from "../../lib/codemirror.js";
import { html, json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { mergedText } from "../../lib/merge.js";
import { complain, notice } from "../../lib/notice.js";
import { languageOf, look } from "../../lib/editorlook.js";
const TYPED_AFTER_MS = 400;
const CHECK_AFTER_MS = 700;
const SEEN_EVERY_MS = 20000;
const FOLDED = "nailer-editor-side-folded";
// The editor's own object stays out of Alpine's reach: a proxy of it would not work.
let view = null;
let base = "";
const differing = new cm.Compartment();

export default () => ({
  dirty: false,
  saving: false,
  checking: false,
  differing: "false",
  changedThere: false,
  gone: false,
  trouble: "",
  canForce: false,
  others: "",
  place: "",
  findings: [],
  formWords: "",
  sideIsFolded: "false",
  history: false,
  init() {
    this.data = this.$root.dataset;
    if (localStorage.getItem(FOLDED) === "true") this.foldSide();
    const state = JSON.parse(document.getElementById("editor-state").textContent);
    base = state.base;
    this.basedOn = state.version;
    this.formWords = this.$root.querySelector("[data-test=form] span").textContent;
    this.dirty = state.text !== base || this.data.new === "yes";
    this.changedThere = this.data.changedThere === "yes";
    this.gone = this.data.gone === "yes";
    this.draw(state);
    if (this.data.find) this.find(this.data.find);
    if (this.data.beside === "other") this.compareOther();
    this.check();
    this.seen = setInterval(() => this.check(), SEEN_EVERY_MS);
    this.onLeave = () => this.flush(true);
    addEventListener("pagehide", this.onLeave);
    this.onKey = (event) => {
      if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "s") {
        event.preventDefault();
        this.save();
      }
    };
    addEventListener("keydown", this.onKey);
    this.onSettle = (event) => this.settled(event.detail);
    addEventListener("nailer:settle", this.onSettle);
    this.close = subscribe((event) => {
      if (event.ended.some((job) => String(job.site) === this.data.site)) this.redrawVersions();
    });
  },
  destroy() {
    clearInterval(this.seen);
    removeEventListener("pagehide", this.onLeave);
    removeEventListener("keydown", this.onKey);
    removeEventListener("nailer:settle", this.onSettle);
    this.close();
    view?.destroy();
  },
  draw(state) {
    const root = this.$refs.text.attachShadow({ mode: "open" });
    const extensions = [
      ...look(cm, this.data.name, this.data),
      languageOf(cm, this.data.name, state.text),
      differing.of([]),
      cm.EditorView.updateListener.of((update) => this.updated(update)),
    ];
    let editing = null;
    if (state.history) {
      try {
        editing = cm.EditorState.fromJSON(JSON.parse(state.history), { extensions }, { history: cm.historyField });
      } catch {
        editing = null;
      }
      // A history that belongs to another text would undo into nonsense.
      if (editing && editing.doc.toString() !== state.text) editing = null;
    }
    editing ||= cm.EditorState.create({ doc: state.text, extensions });
    view = new cm.EditorView({ state: editing, parent: root, root });
    view.contentDOM.setAttribute("aria-label", this.data.name);
    const line = Number(this.data.line);
    if (line > 0) this.goTo(view.state.doc.line(Math.min(line, view.state.doc.lines)).from);
    this.say();
    view.focus();
  },
  get text() {
    return view.state.doc.toString();
  },
  updated(update) {
    if (update.docChanged) {
      this.dirty = this.text !== base || this.data.new === "yes";
      clearTimeout(this.typedTimer);
      this.typedTimer = setTimeout(() => this.flush(), TYPED_AFTER_MS);
      clearTimeout(this.checkTimer);
      this.checkTimer = setTimeout(() => this.check(), CHECK_AFTER_MS);
    }
    if (update.docChanged || update.selectionSet) this.say();
  },
  say() {
    const at = view.state.selection.main.head,
      line = view.state.doc.lineAt(at);
    const open =
      view.state.doc.length && view.state.doc.line(view.state.doc.lines).length ? ", no line break at the end" : "";
    this.place = `Line ${line.number} of ${view.state.doc.lines}, column ${at - line.from + 1}${open}`;
  },
  goTo(at) {
    view.dispatch({ selection: { anchor: at }, effects: cm.EditorView.scrollIntoView(at, { y: "center" }) });
    view.focus();
  },
  get body() {
    return {
      text: this.text,
      based_on: this.basedOn,
      history: JSON.stringify(view.state.toJSON({ history: cm.historyField })),
    };
  },

  // What is typed is kept at once; a page that is closed sends the last of it on its way.
  async flush(leaving = false) {
    clearTimeout(this.typedTimer);
    if (this.kept === this.text || this.shutting) return;
    const text = this.text;
    if (leaving) {
      const token = document.querySelector('meta[name="csrf"]').content;
      const headers = { "Content-Type": "application/json", "X-CSRF": token, Accept: "application/json" };
      const body = JSON.stringify({ text, history: null, based_on: this.basedOn });
      fetch(`/drafts/${this.data.draft}/text`, { method: "POST", headers, body, keepalive: body.length < 60000 }).catch(
        () => {},
      );
      return;
    }
    try {
      const first = !this.$refs.versions.querySelector(".mine") === this.dirty;
      const told = await json(`/drafts/${this.data.draft}/text`, { body: this.body });
      this.kept = text;
      if (told.stale) {
        this.changedThere = true;
        return this.state("Saved from another page in the meantime. Save to compare both versions.");
      }
      if (first) this.redrawVersions();
      this.state(
        this.dirty
          ? `Draft saved in Nailer ${new Date().toLocaleTimeString([], { hour12: false })}`
          : `As it is ${this.data.side}`,
      );
    } catch (error) {
      this.state("The draft could not be saved");
      complain(error);
    }
  },
  state(text) {
    dispatchEvent(new CustomEvent("nailer:draft", { detail: text }));
  },
  async leave(event) {
    event.preventDefault();
    await this.flush();
    location.href = event.currentTarget.href;
  },
  // What is picked, or the word at the cursor, is looked for in all files of this side.
  searchSite() {
    const { from, to } = view.state.selection.main,
      word = view.state.wordAt(from);
    const text = from < to ? view.state.sliceDoc(from, to) : word ? view.state.sliceDoc(word.from, word.to) : "";
    const [first] = text.trim().split("\n");
    location.href = first ? `${this.data.search}&inside=${encodeURIComponent(first)}` : this.data.search;
  },
  async keepDraft() {
    await this.flush();
    notice("Saved as a draft. You find it here when you come back.");
  },
  async shut() {
    if (this.dirty && !confirm("Close this file and discard the unsaved changes?")) return;
    this.shutting = true;
    try {
      const { href } = await json(`/drafts/${this.data.draft}/close`, { body: {} });
      location.href = href;
    } catch (error) {
      this.shutting = false;
      complain(error);
    }
  },

  // Saving.
  async save() {
    if (this.saving) return;
    if (
      this.data.asks === "yes" &&
      !confirm(`Save ${this.data.name} ${this.data.side === "there" ? "to the server" : "here"}?`)
    )
      return;
    await this.send(false);
  },
  saveAnyway() {
    return this.send(true);
  },
  async send(despite) {
    this.saving = true;
    this.quiet();
    const text = this.text;
    try {
      const body = { ...this.body, despite_errors: despite };
      let told = await json(`/drafts/${this.data.draft}/save`, { body });
      // Saved from another page meanwhile: with what this one began as, both changes can be merged.
      if (told.stale) told = await json(`/drafts/${this.data.draft}/save`, { body: { ...body, base } });
      this.basedOn = told.version;
      this.kept = text;
      if (told.done) return this.landed(text, told);
      if (told.merge) {
        this.changedThere = true;
        return this.merge();
      }
      this.gone = told.gone;
      if (told.errors.length) {
        this.canForce = true;
        this.trouble = `Not saved: ${told.errors.join("; ")}. This site is saved with care.`;
      } else if (told.broken.length) {
        const ended = told.is_back ? "Taken back" : "Nailer could NOT take the change back automatically";
        const broken = told.broken.map((one) => `${one.address} ${one.why}`).join("; ");
        this.trouble = `${ended}: ${broken}. ${told.broken[0].begins}`;
      } else if (told.why)
        this.trouble = `${told.why}${told.words ? ` The server: ${told.words}` : ""} Your text is still in the editor.`;
    } catch (error) {
      this.trouble = `${error.message} Your text is still in the editor.`;
    } finally {
      this.saving = false;
    }
  },
  landed(text, told) {
    base = text;
    this.data.new = "";
    this.changedThere = this.gone = false;
    this.dirty = this.text !== base;
    this.state(told.job ? `Saved by job ${told.job}` : `As it is ${this.data.side}`);
    if (this.differing === "true") this.compareWith(base);
    view.focus();
    this.redrawVersions();
    if (this.data.side === "there" && this.$refs.live) this.checkLive(true);
  },
  quiet() {
    this.trouble = "";
    this.canForce = false;
  },
  async saveAsNew() {
    try {
      this.basedOn = (await json(`/drafts/${this.data.draft}/as-new`, { body: {} })).version;
      this.data.new = "yes";
      this.gone = false;
      await this.send(false);
    } catch (error) {
      complain(error);
    }
  },
  async merge() {
    await this.flush();
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `/drafts/${this.data.draft}/merge` } }));
  },
  // A decision from the sheet: the pieces, and what was chosen for each that is in conflict.
  async settled(decision) {
    const text = mergedText(decision);
    try {
      const told = await json(`/drafts/${this.data.draft}/settle`, { body: { text, history: null } });
      base = told.base;
      this.basedOn = told.version;
      this.formWords = told.form;
      this.put(text);
      this.changedThere = false;
      this.dirty = this.text !== base;
      notice(
        this.dirty
          ? "Both changes are in the editor now. Save when you have read them."
          : "This is the current version there.",
      );
      this.redrawVersions();
    } catch (error) {
      complain(error);
    }
  },
  put(text) {
    const doc = view.state.doc.toString();
    if (doc !== text) view.dispatch({ changes: { from: 0, to: doc.length, insert: text } });
    view.focus();
  },

  // Findings.
  async check() {
    const text = this.text;
    try {
      const { findings, others } = await json(`/drafts/${this.data.draft}/check`, { body: { text, history: null } });
      this.others = others.join(", ");
      if (text !== this.text) return;
      this.findings = findings;
      view.dispatch(
        cm.setDiagnostics(
          view.state,
          findings
            .filter((one) => one.from <= text.length)
            .map((one) => ({ ...one, to: Math.min(one.to, text.length) })),
        ),
      );
      this.$refs.findings.replaceChildren(...findings.slice(0, 30).map((one) => this.findingRow(one)));
    } catch {
      /* the next look may tell */
    }
  },
  findingRow(one) {
    const row = document.createElement("li"),
      button = document.createElement("button");
    button.type = "button";
    button.className = `linkish ${one.severity}`;
    button.dataset.at = one.from;
    button.textContent = `${view.state.doc.lineAt(Math.min(one.from, view.state.doc.length)).number}: ${one.message}`;
    row.append(button);
    return row;
  },
  toFinding(event) {
    const at = event.target.closest("[data-at]")?.dataset.at;
    if (at) this.goTo(Math.min(Number(at), view.state.doc.length));
  },
  nextFinding() {
    if (this.findings.length) {
      cm.nextDiagnostic(view);
      view.focus();
    }
  },
  get findingsText() {
    if (!this.findings.length) return this.kind ? `${this.kind} has no errors` : "No problems found";
    return `${this.findings.length} finding${this.findings.length > 1 ? "s" : ""}`;
  },
  get kind() {
    return this.data.kind || "";
  },
  get lookOfFindings() {
    return this.findings.some((one) => one.severity === "error")
      ? "bad-ink"
      : this.findings.length
        ? "warn-ink"
        : "good-ink";
  },

  // Versions and differences.
  // The line that a finding speaks of.
  find(text) {
    const at = view.state.doc.toString().indexOf(text);
    if (at < 0) return notice("That text is no longer in the file.");
    view.dispatch({ selection: { anchor: at, head: at + text.length }, scrollIntoView: true });
    view.focus();
  },
  toLine() {
    cm.gotoLine(view);
  },
  foldSide() {
    this.sideIsFolded = this.sideIsFolded === "true" ? "false" : "true";
    localStorage.setItem(FOLDED, this.sideIsFolded);
    this.$root.classList.toggle("folded", this.sideIsFolded === "true");
  },
  differ() {
    if (this.differing === "true") {
      this.differing = "false";
      view.dispatch({ effects: differing.reconfigure([]) });
    } else this.compareWith(base);
  },
  // `choosing`: for each place that differs, buttons to keep it or to take the other text.
  compareWith(text, choosing = false) {
    if (text === this.text) {
      this.differing = "false";
      view.dispatch({ effects: differing.reconfigure([]) });
      return notice("No differences from the text in the editor.");
    }
    this.differing = "true";
    const merging = cm.unifiedMergeView({
      original: text,
      mergeControls: choosing && ((kind, act) => this.choice(kind, act)),
      gutter: true,
      collapseUnchanged: { margin: 4, minSize: 12 },
    });
    view.dispatch({ effects: differing.reconfigure([]) });
    view.dispatch({ effects: differing.reconfigure(merging) });
    view.focus();
  },
  choice(kind, act) {
    const other = this.data.side === "there" ? "here" : "there";
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = kind === "accept" ? `Keep ${this.data.side}` : `Take from ${other}`;
    button.className = `merge-choice ${kind === "accept" ? "keep" : "take"}`;
    button.addEventListener("mousedown", act);
    button.addEventListener("click", (event) => event.detail === 0 && act(event)); // by the keyboard
    return button;
  },
  async compareOther() {
    try {
      this.compareWith(await this.versionText("other"), true);
    } catch (error) {
      complain(error);
    }
  },
  async versionText(version) {
    const found = await json(`/drafts/${this.data.draft}/versions/${version}`);
    return found.text;
  },
  async version(event) {
    const compare = event.target.closest("[data-compare]"),
      back = event.target.closest("[data-put]"),
      two = event.target.closest("[data-two]");
    try {
      if (compare) {
        this.compareWith(compare.dataset.compare === "now" ? base : await this.versionText(compare.dataset.compare));
      }
      if (back) {
        this.put(await this.versionText(back.dataset.put));
        notice("The version is in the editor. Save it to make it the current version.");
      }
      if (two) {
        const { one, other } = two.closest("form").elements;
        dispatchEvent(
          new CustomEvent("nailer:show", {
            detail: {
              title: `${one.selectedOptions[0].text} and ${other.selectedOptions[0].text}`,
              url: `/drafts/${this.data.draft}/compare/${one.value}/${other.value}`,
            },
          }),
        );
      }
    } catch (error) {
      complain(error);
    }
  },
  async redrawVersions() {
    try {
      this.$refs.versions.innerHTML = await html(`/drafts/${this.data.draft}/beside`);
    } catch {
      /* it stays as it was */
    }
  },
  async storeAs(event) {
    const form = event.target.elements;
    try {
      await this.flush();
      const body = {
        encoding: form.encoding.value,
        mark: form.mark.checked,
        line_end: form.line_end.value === "crlf" ? "\r\n" : "\n",
      };
      const { words } = await json(`/drafts/${this.data.draft}/store-as`, { body });
      this.formWords = words;
      this.dirty = true;
      event.target.closest("details").open = false;
      notice("This can change every line. Save to apply it.");
    } catch (error) {
      complain(error);
    }
  },

  // What visitors get.
  async checkLive(purge = false) {
    clearInterval(this.counting);
    this.checking = true;
    try {
      this.$refs.live.innerHTML = await html(`/drafts/${this.data.draft}/live${purge === true ? "?purge=1" : ""}`, {
        body: {},
      });
      this.$refs.live.querySelector("[data-purge]")?.addEventListener("click", () => this.checkLive(true));
      this.count(Number(this.$refs.live.querySelector("[data-again]")?.dataset.again || 0));
    } catch (error) {
      this.$refs.live.textContent = error.message;
    } finally {
      this.checking = false;
    }
  },
  count(left) {
    const shown = this.$refs.live.querySelector("[data-part=countdown]");
    if (!left || !shown) return;
    const tick = () => {
      shown.textContent = `Looks again in ${left >= 90 ? `${Math.round(left / 60)} min` : `${left} s`}`;
      if (left <= 0) {
        clearInterval(this.counting);
        this.checkLive();
      }
      left -= 1;
    };
    tick();
    this.counting = setInterval(tick, 1000);
  },
});
