// Notices in the corner: bad news stays until it is put away, the rest goes by itself.
import { subscribe } from "../../lib/events.js";
const STAYS_MS = 7000;
const BACK_STAYS_MS = 20000;
export default () => ({
  notes: [],
  count: 0,
  said: new Set(),
  init() {
    addEventListener("nailer:notice", (event) => this.add(event.detail));
    if (document.querySelector('meta[name="csrf"]')?.content)
      subscribe((event) => event.saved.forEach((own) => this.saved(own)));
  },
  // A file that is edited with another program was saved here: it waits to be sent.
  saved(own) {
    const key = `${own.id} ${own.at} ${own.trouble}`;
    if (this.said.has(key) || location.pathname === "/drafts") return;
    this.said.add(key);
    this.add({
      text: own.trouble ? `${own.name}: ${own.trouble}` : `${own.name} was saved here but is not uploaded yet.`,
      look: own.trouble ? "bad" : "",
      href: "/drafts",
      link: "Upload …",
    });
  },
  add(note) {
    const id = ++this.count;
    this.notes.push({ ...note, id });
    if (note.look !== "bad") setTimeout(() => this.dismiss(id), note.back ? BACK_STAYS_MS : STAYS_MS);
  },
  // The job that a notice is about, taken back by a plan to read.
  takeBack(note) {
    this.dismiss(note.id);
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `/jobs/${note.back}/plans/take-back`, body: {} } }));
  },
  dismiss(id) {
    this.notes = this.notes.filter((note) => note.id !== id);
  },
});
