// What could go: a running total of what is chosen, and a plan to remove it.
import { subscribe } from "../../lib/events.js";
import { grouped } from "../../lib/number.js";

const UNITS = ["B", "kB", "MB", "GB", "TB"];

// As the server writes sizes: 9.1 kB.
function sizeText(bytes) {
  let value = bytes,
    unit = 0;
  while (value >= 999.95 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return unit ? `${value.toFixed(1)} ${UNITS[unit]}` : `${bytes} B`;
}

export default () => ({
  freed: "0 B",
  files: "0 files",
  none: true,
  fetched: null,
  close: null,
  hear: null,
  init() {
    this.total();
    this.close = subscribe((event) => event.ended.forEach((job) => this.ended(job)));
    this.hear = ({ detail }) => {
      if (this.fetched && detail.url?.endsWith("/checks/savings")) this.fetched.job = detail.job;
    };
    addEventListener("nailer:transferring", this.hear);
  },
  destroy() {
    this.close();
    removeEventListener("nailer:transferring", this.hear);
  },
  // The copy is here, whole: what it was made of may go, by a plan that is read.
  ended(job) {
    if (this.fetched?.job !== job.id || job.state !== "done") return;
    const { paths } = this.fetched;
    this.fetched = null;
    this.remove(paths);
  },
  // A tick at a reason is one at all of its files; a file that is chosen alone leaves the reason's half.
  count(event) {
    const box = event.target,
      saving = box.closest(".saving");
    if (!saving) return;
    const all = saving.querySelector("[data-all]"),
      files = [...saving.querySelectorAll("[name=path]")];
    if (box === all) files.forEach((one) => (one.checked = all.checked));
    const chosen = files.filter((one) => one.checked).length;
    all.checked = chosen === files.length && chosen > 0;
    all.indeterminate = chosen > 0 && chosen < files.length;
    this.total();
  },
  total() {
    const chosen = this.chosen();
    this.freed = sizeText(chosen.reduce((sum, one) => sum + Number(one.dataset.frees), 0));
    this.files = `${grouped(chosen.length)} ${chosen.length === 1 ? "file" : "files"}`;
    this.none = chosen.length === 0;
  },
  chosen() {
    return [...this.$root.querySelectorAll(".saving [name=path]:checked")];
  },
  plan() {
    const paths = this.chosen().map((one) => one.value);
    const fetch = this.$root.querySelector("[name=fetch]")?.checked ?? false;
    this.fetched = fetch ? { paths, job: null } : null;
    this.remove(paths, fetch);
  },
  remove(paths, fetch = false) {
    const url = `/sites/${this.$root.dataset.site}/checks/savings`;
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body: { paths, fetch } } }));
  },
});
