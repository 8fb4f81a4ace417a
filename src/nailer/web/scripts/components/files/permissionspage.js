// Access of many: what the panels, a purpose or an expression would do, counted; and setting it.
import { html, json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  data: null,
  files: "",
  folders: "",
  byPurpose: true,
  onlyRisky: false,
  filesText: "",
  foldersText: "",
  why: "",
  expressionText: "",
  expressionLook: "muted",
  risky: 0,
  changingText: "0",
  problem: "",
  nothing: false,
  init() {
    this.data = this.$root.dataset;
    this.files = this.filesText = this.$root.querySelector("[data-panel=files]").dataset.octal;
    this.folders = this.foldersText = this.$root.querySelector("[data-panel=folders]").dataset.octal;
    this.byPurpose = true;
    this.onlyRisky = this.data.onlyRisky === "yes";
    this.why = this.$root.querySelector("[data-purpose]").dataset.why;
    this.$root.addEventListener("permissions", (event) => this.panelled(event.detail));
    this.count();
  },
  count() {
    const found = this.$refs.rows.querySelector(".permissions-found").dataset;
    this.changingText = found.changing;
    this.risky = found.risky;
    this.nothing = found.changing === "0";
  },
  get riskyPressed() {
    return String(this.onlyRisky);
  },
  panelled({ panel, octal }) {
    this[panel] = octal;
    this[`${panel}Text`] = octal;
    this.byPurpose = false;
    this.$refs.expression.value = "";
    this.expressionText = "";
    this.unpick();
    this.look();
  },
  unpick() {
    this.$root.querySelectorAll("[data-purpose]").forEach((one) => {
      one.setAttribute("aria-pressed", "false");
      one.className = "chip line";
    });
    this.why = "As the two panels say.";
  },
  act(event) {
    const purpose = event.target.closest("[data-purpose]"),
      button = event.target.closest("[data-do]");
    if (purpose) this.pick(purpose);
    if (button?.dataset.do === "risky") {
      this.onlyRisky = !this.onlyRisky;
      this.look();
    }
    if (button?.dataset.do === "set") this.set();
  },
  pick(chip) {
    this.unpick();
    chip.setAttribute("aria-pressed", "true");
    chip.className = "chip on";
    this.why = chip.dataset.why;
    this.byPurpose = chip.dataset.purpose === "website";
    for (const panel of ["files", "folders"]) {
      this[panel] = this[`${panel}Text`] = chip.dataset[panel];
      dispatchEvent(new CustomEvent("nailer:set-panel", { detail: { panel, octal: chip.dataset[panel] } }));
    }
    this.$refs.expression.value = "";
    this.expressionText = "";
    this.look();
  },
  async express() {
    const text = this.$refs.expression.value.trim();
    if (!text) return;
    this.files = this.folders = text;
    this.filesText = this.foldersText = text.length > 12 ? "as said" : text;
    this.byPurpose = false;
    this.unpick();
    this.why = "As the expression says.";
    await this.look();
    this.expressionText = this.problem ? "cannot be read" : "reads well";
    this.expressionLook = this.problem ? "bad-ink" : "good-ink";
  },
  get wish() {
    return {
      files: this.$refs.nofiles.checked ? "" : this.files,
      folders: this.$refs.nofolders.checked ? "" : this.folders,
      by_purpose: this.byPurpose,
      only_risky: this.onlyRisky,
    };
  },
  async look() {
    try {
      this.$refs.rows.innerHTML = await html(`/permissions/${this.data.token}/preview`, { body: this.wish });
      this.problem = "";
      this.count();
    } catch (error) {
      this.problem = error.message;
      this.nothing = true;
    }
  },
  async set() {
    try {
      const { job } = await json(`/permissions/${this.data.token}/carry-out`, { body: this.wish });
      location.href = `/jobs/${job}`;
    } catch (error) {
      complain(error);
    }
  },
});
