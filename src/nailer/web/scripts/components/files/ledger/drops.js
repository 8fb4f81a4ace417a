// Files dropped from the person's own computer, or chosen there.
import { put } from "../../../lib/ask.js";
import { readChosen, readDrop } from "../../../lib/dropped.js";
import { complain, notice } from "../../../lib/notice.js";

const ARCHIVE = /\.(zip|tar|tgz|txz|tar\.(gz|xz|zst|bz2))$/i;

export default {
  listenForDrops() {
    const zones = [...this.$root.querySelectorAll("[data-drop-side]")];
    const zoneOf = (event) =>
      event.target.closest("[data-drop-side]") || (event.target.closest(".ledger-place") ? this.$refs.dropthere : null);
    const light = (zone) => zones.forEach((one) => one.classList.toggle("over", one === zone));
    this.$root.addEventListener("dragover", (event) => {
      if (![...event.dataTransfer.types].includes("Files")) return;
      event.preventDefault();
      const zone = zoneOf(event);
      event.dataTransfer.dropEffect = zone ? "copy" : "none";
      light(zone);
    });
    this.$root.addEventListener("dragleave", (event) => {
      if (!this.$root.contains(event.relatedTarget)) light(null);
    });
    this.$root.addEventListener("drop", async (event) => {
      event.preventDefault();
      const zone = zoneOf(event);
      light(null);
      if (zone)
        this.drop(
          zone.dataset.dropSide,
          await readDrop(event.dataTransfer).catch((error) => {
            complain(error);
            return [];
          }),
        );
    });
  },

  // An archive is taken in and unpacked here first; the plan that follows is read like any other.
  async unpack(side, file) {
    notice(`Reading ${file.name} …`);
    try {
      const found = await put(`/sites/${this.data.site}/archives?name=${encodeURIComponent(file.name)}`, file);
      this.plan(
        "unpack",
        { to_side: side, folder: side === "here" ? this.data.here : this.data.there, name: file.name, ...found },
        [{ below: [file.name], file }],
      );
    } catch (error) {
      complain(error);
    }
  },

  chosen(event) {
    this.drop(event.target.dataset.side, readChosen(event.target.files));
    event.target.value = "";
  },

  drop(side, found) {
    if (!found.length) return notice("You did not drop any files.");
    if (found.length === 1 && ARCHIVE.test(found[0].file.name)) return this.unpack(side, found[0].file);
    const files = found.map((one) => ({
      below: one.below,
      size: one.file.size,
      modified_ms: one.file.lastModified || null,
    }));
    this.plan("drop", { to_side: side, folder: side === "here" ? this.data.here : this.data.there, files }, found);
  },
};
