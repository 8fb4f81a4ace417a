// The jobs view: cards kept current by events, what can be done with a job, and the speed of both directions.
import { html, json } from "../../lib/ask.js";
import { subscribe } from "../../lib/events.js";
import { complain } from "../../lib/notice.js";
const SPAN_S = 300;
const UNITS = ["B", "kB", "MB", "GB"];
export default () => ({
  speeds: [],
  limits: [null, null],
  limitText: "",
  asked: new Map(), // job ids whose card is on its way: is a newer one wanted?
  init() {
    const stored = document.getElementById("speeds");
    if (stored) this.speeds = JSON.parse(stored.textContent);
    this.$root.querySelectorAll("[data-lazy]").forEach(async (place) => {
      try {
        place.innerHTML = await html(place.dataset.lazy);
      } catch (error) {
        place.textContent = error.message;
      }
    });
    this.close = subscribe((event) => this.hear(event));
  },
  destroy() {
    this.close();
  },
  hear(event) {
    this.limits = event.limits;
    if (event.speeds[0] && event.running.length) this.speeds = [...this.speeds, event.speeds[0]].slice(-SPAN_S);
    this.$root.querySelector("[data-live=now]")?.replaceChildren(`Now ${event.running.length}`);
    event.running.forEach((job) => this.update(job));
    event.ended.forEach((job) => this.refresh(job.id));
    this.catchUp(new Set(event.running.map((job) => job.id)));
  },
  // A job may have ended after this page was made and before its events came: what it shows as running and is not, is old.
  catchUp(running) {
    const old = this.heard ? '[data-state="running"]' : '[data-state="running"], [data-state="waiting"]';
    this.heard = true;
    this.$root.querySelectorAll("article[data-job]").forEach((card) => {
      if (card.matches(old) && !running.has(Number(card.dataset.job))) this.refresh(Number(card.dataset.job));
    });
  },
  update(job) {
    const card = this.card(job.id);
    if (!card) return this.$root.dataset.show === "now" ? this.refresh(job.id) : undefined;
    if (card.dataset.state !== "running") return this.refresh(job.id);
    card.querySelector("[data-live=line]").textContent = job.line;
    card.querySelector("[data-live=bar]").value = job.share;
    card.querySelector("[data-live=flights]").replaceChildren(...job.flights.map(flight));
  },
  async refresh(id) {
    // What changed while a card is on its way is asked for once more: the one on its way may be older.
    if (this.asked.has(id)) return this.asked.set(id, true);
    this.asked.set(id, false);
    try {
      const text = await html(`/jobs/${id}/card`);
      const card = this.card(id);
      if (card) card.outerHTML = text;
      else if (this.$root.dataset.show === "now") {
        this.$refs.cards.insertAdjacentHTML("afterbegin", text);
        if (this.$refs.none) this.$refs.none.hidden = true;
      }
    } catch (error) {
      complain(error);
    } finally {
      const again = this.asked.get(id);
      this.asked.delete(id);
      if (again) this.refresh(id);
    }
  },
  async act(event) {
    const button = event.target.closest("[data-do]");
    if (!button) return;
    const id = button.dataset.jobId || button.closest("[data-job]").dataset.job;
    if (button.dataset.do === "take-back")
      return dispatchEvent(
        new CustomEvent("nailer:plan", { detail: { url: `/jobs/${id}/plans/take-back`, body: {} } }),
      );
    button.disabled = true;
    try {
      await json(`/jobs/${id}/${button.dataset.do}`, { body: {} });
      await this.refresh(id);
    } catch (error) {
      button.disabled = false;
      complain(error);
    }
  },
  async limit(event) {
    const form = new FormData(event.target);
    try {
      const body = {
        site_id: Number(form.get("site_id")),
        up: form.get("up"),
        down: form.get("down"),
        hours: form.get("hours"),
      };
      const { now } = await json("/jobs/limits", { body });
      if (!body.site_id) this.limits = now;
      this.limitText = now.some(Boolean) ? "The speed limits are active." : "There is no speed limit.";
    } catch (error) {
      this.limitText = "";
      complain(error);
    }
  },
  async limitsOf(event) {
    const form = event.target.form;
    try {
      const found = await json(`/jobs/limits?site=${event.target.value}`);
      for (const name of ["up", "down", "hours"]) form.elements[name].value = found[name];
      form.querySelector("details").open = Boolean(found.hours);
      this.limitText = "";
    } catch (error) {
      complain(error);
    }
  },
  async done(event) {
    const form = new FormData(event.target.closest("form"));
    const body = { mail: form.get("mail") || "", write: Boolean(form.get("write")), close: Boolean(form.get("close")) };
    if (event.type === "change" && body.write && !body.mail) return;
    try {
      await json("/jobs/when-done", { body });
    } catch (error) {
      complain(error);
    }
  },
  card(id) {
    return this.$root.querySelector(`article[data-job="${id}"]`);
  },
  get most() {
    return Math.max(1024, ...this.speeds.map((one) => Math.max(one[0], one[1])));
  },
  // A limit far above what was reached would flatten the lines: it is drawn at the top then.
  limitPath(which) {
    if (!this.limits[which]) return "";
    const height = 118 - 100 * Math.min(1.1, this.limits[which] / this.most);
    return `M0 ${height}H270`;
  },
  path(which) {
    const most = this.most;
    const points = this.speeds.map(
      (one, at) => `${((SPAN_S - this.speeds.length + at) * 270) / SPAN_S} ${118 - (100 * one[which]) / most}`,
    );
    return points.length ? `M${points.join("L")}` : "";
  },
  get limitUp() {
    return this.limitPath(0);
  },
  get limitDown() {
    return this.limitPath(1);
  },
  get up() {
    return this.path(0);
  },
  get down() {
    return this.path(1);
  },
  get fill() {
    return this.up ? `${this.up}L270 119L${((SPAN_S - this.speeds.length) * 270) / SPAN_S} 119Z` : "";
  },
  get upText() {
    return rate(this.speeds.at(-1)?.[0]);
  },
  get downText() {
    return rate(this.speeds.at(-1)?.[1]);
  },
});

function rate(value = 0) {
  let unit = 0;
  while (value >= 1000 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return `${unit ? value.toFixed(1) : value} ${UNITS[unit]}/s`;
}

function flight(one) {
  const line = document.createElement("div");
  const name = document.createElement("span");
  const share = document.createElement("span");
  name.className = "ellipsis";
  name.textContent = one.name;
  share.textContent = one.share;
  line.append(name, share);
  return line;
}
