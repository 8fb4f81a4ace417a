// Timers: the form with its next runs, and what can be done with each.
import { html, json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
export default () => ({
  refused: "",
  wrong: "",
  // What storing was refused for stays until it is tried again: a preview that comes a moment later must not hide it.
  get problem() {
    return this.refused || this.wrong;
  },
  init() {
    this.parts();
    if (this.body.pair || this.body.job) this.preview();
  },
  destroy() {
    clearTimeout(this.timer);
    clearTimeout(this.look);
  },
  soon() {
    this.parts();
    this.wrong = "";
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.preview(), 300);
  },
  parts() {
    this.$refs.form.querySelectorAll("[data-every]").forEach((one) => {
      one.hidden = !one.dataset.every.split(" ").includes(this.$refs.every.value);
    });
  },
  get body() {
    const form = this.$refs.form.elements;
    const days = [...this.$refs.form.querySelectorAll("[name=day]:checked")].map((one) => one.value).join(",");
    const spec = {
      minutes: form.minutes.value,
      daily: form.clock.value,
      weekly: `${days} ${form.clock.value}`,
      cron: form.cron.value,
    }[form.every.value];
    const what = form.pair
      ? {
          pair: Number(form.pair.value) || 0,
          direction: form.direction.value,
          removals: form.removals.value,
          compare: form.compare.value,
        }
      : { job: Number(this.$root.dataset.job) };
    return {
      ...what,
      name: form.name.value,
      every: form.every.value,
      spec,
      zone: form.zone.value,
      mail: form.mail.value,
      missed: form.missed.value,
      clashes: form.clashes.value,
    };
  },
  async preview() {
    try {
      this.$refs.runs.innerHTML = await html("/timers/preview", { body: this.body });
      this.wrong = "";
    } catch (error) {
      this.$refs.runs.replaceChildren();
      this.wrong = error.message;
    }
  },
  async store() {
    const { edited } = this.$root.dataset;
    this.refused = "";
    try {
      await json(edited ? `/timers/${edited}` : "/timers", { body: this.body });
      location.href = "/timers";
    } catch (error) {
      this.refused = error.message;
    }
  },
  async act(event) {
    const button = event.target.closest("[data-do]");
    if (!button) return;
    const timer = button.closest("[data-timer]").dataset.timer,
      act = button.dataset.do;
    if (act === "remove" && !confirm("Remove this timer? Files it has transferred stay.")) return;
    button.disabled = true;
    try {
      await json(`/timers/${timer}/${act}`, { body: {} });
      if (act === "run") this.wait(timer);
      else location.reload();
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  async wait(timer) {
    try {
      const { busy } = await json(`/timers/${timer}/state`);
      if (!busy) {
        location.reload();
        return;
      }
    } catch (error) {
      complain(error);
      return;
    }
    this.look = setTimeout(() => this.wait(timer), 400);
  },
});
