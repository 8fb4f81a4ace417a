// A pair's plan: read both sides, follow the reading, then filter, decide and carry out what the server renders.
import { html, json } from "../../lib/ask.js";
import { mergedText } from "../../lib/merge.js";
import { complain, notice } from "../../lib/notice.js";
const LOOK_MS = 250;
const count = (number, word) => `${number} ${word}${number === 1 ? "" : "s"}`;
export default () => ({
  reading: false,
  stopped: false,
  hereText: "",
  thereText: "",
  comparingText: "",
  problem: "The two sides could not be compared",
  problemWords: "",
  problemAdvice: "Reading changes nothing on either side.",
  token: "",
  group: "",
  text: "",
  byFolder: false,
  merging: null,
  drawing: 0,
  init() {
    this.data = this.$root.dataset;
    this.token = this.data.token;
    const body = this.$refs.body;
    body.addEventListener("change", (event) => this.changed(event));
    body.addEventListener("input", (event) => {
      if (event.target.matches("[data-filter]")) this.filterSoon(event.target);
    });
    body.addEventListener("submit", (event) => {
      event.preventDefault();
      this.carryOut(event.target);
    });
    this.onSettle = (event) => this.settled(event.detail);
    addEventListener("nailer:settle", this.onSettle);
    if (this.token) this.follow();
    else this.read();
  },
  destroy() {
    clearTimeout(this.timer);
    clearTimeout(this.soon);
    removeEventListener("nailer:settle", this.onSettle);
    this.seer?.disconnect();
  },
  get wish() {
    const form = this.$refs.wish.elements;
    return { direction: form.direction.value, removals: form.removals.value };
  },
  async read() {
    this.$refs.body.replaceChildren();
    this.$refs.flow.replaceChildren();
    this.drawing += 1;
    Object.assign(this, {
      reading: true,
      stopped: false,
      hereText: "connecting …",
      thereText: "connecting …",
      comparingText: "",
    });
    try {
      const { token } = await json(`/pairs/${this.data.pair}/read`, {
        body: { ...this.wish, compare: this.$refs.wish.elements.compare.value },
      });
      this.token = this.data.token = token;
      this.follow();
    } catch (error) {
      this.fail(error.message, error.answer?.server_words || "", (error.answer?.advice || []).join(" "));
    }
  },
  fail(what, words, advice) {
    Object.assign(this, {
      reading: false,
      stopped: true,
      problem: what,
      problemWords: words,
      problemAdvice: advice,
      token: "",
    });
  },
  async follow() {
    clearTimeout(this.timer);
    const { token } = this;
    try {
      const told = await json(`/sync/${token}/progress`);
      if (token !== this.token) return;
      if (told.problem) {
        this.fail(told.problem, told.words, told.advice);
        return;
      }
      if (told.ready) {
        this.reading = false;
        this.draw();
        return;
      }
      this.reading = true;
      this.hereText = `${count(told.here[0], "folder")}, ${count(told.here[1], "item")}`;
      this.thereText = `${count(told.there[0], "folder")}, ${count(told.there[1], "item")}`;
      this.comparingText = told.comparing[1]
        ? `${told.comparing[0]} of ${count(told.comparing[1], "content")} compared`
        : "";
      this.timer = setTimeout(() => this.follow(), LOOK_MS);
    } catch (error) {
      if (error.status === 404) this.read();
      else this.fail(error.message, "", "");
    }
  },
  query(more = {}) {
    return new URLSearchParams({ group: this.group, text: this.text, by: this.byFolder ? "folder" : "", ...more });
  },
  // The whole plan anew, as many rows as were there, and the focus where it was.
  async draw(url = `/sync/${this.token}`, options = {}) {
    const body = this.$refs.body,
      rows = Math.max(200, body.querySelectorAll("[data-row]").length);
    const drawing = ++this.drawing;
    let text;
    try {
      text = await html(`${url}?${this.query({ rows: String(Math.min(rows, 5000)) })}`, options);
    } catch (error) {
      if (error.status === 404) this.read();
      else complain(error);
      return;
    }
    // An earlier answer that comes late would undo a later one.
    if (drawing !== this.drawing) return;
    const held = document.activeElement,
      row = held?.dataset?.choose,
      typing = body.contains(held) && held.matches("[data-filter]");
    const from = typing ? held.selectionStart : 0,
      to = typing ? held.selectionEnd : 0;
    const top = body.querySelector("[data-part=scroll]")?.scrollTop || 0;
    this.show(text);
    body.querySelector("[data-part=scroll]").scrollTop = top;
    if (row !== undefined) body.querySelector(`[data-choose="${row}"]`)?.focus();
    if (typing) {
      const input = body.querySelector("[data-filter]");
      input.focus();
      input.setSelectionRange(from, to);
    }
  },
  show(text) {
    const body = this.$refs.body,
      filter = body.querySelector("[data-filter]");
    body.innerHTML = text;
    // The same box stays: what was typed or marked in it while the answer was on its way is not lost.
    if (filter) body.querySelector("[data-filter]").replaceWith(filter);
    this.$refs.flow.replaceChildren(body.querySelector("[data-part=flow]").content);
    document.getElementById("sync-status").textContent = body.querySelector("[data-part=status]").content.textContent;
    document.getElementById("sync-made").textContent = body.querySelector("[data-part=made]").content.textContent;
    this.watchMore();
  },
  watchMore() {
    this.seer?.disconnect();
    const more = this.$refs.body.querySelector("tr.more");
    if (!more) return;
    this.seer = new IntersectionObserver(
      (seen) => {
        if (seen.some((one) => one.isIntersecting)) this.more();
      },
      { root: this.$refs.body.querySelector("[data-part=scroll]"), rootMargin: "400px" },
    );
    this.seer.observe(more);
  },
  async more() {
    const last = this.$refs.body.querySelector("tr.more");
    if (!last || last.dataset.asked) return;
    last.dataset.asked = "yes";
    try {
      const text = await html(`/sync/${this.token}?${this.query({ from: last.dataset.more })}`);
      if (!last.isConnected) return; // the plan was drawn anew meanwhile
      last.outerHTML = text;
      this.watchMore();
    } catch (error) {
      complain(error);
    }
  },
  wished(event) {
    if (event.target.name === "pair") location.href = `?pair=${event.target.value}`;
    else if (event.target.name === "compare" || !this.token || this.reading) this.read();
    else this.draw(`/sync/${this.token}/wish`, { body: this.wish });
  },
  changed(event) {
    const { choose } = event.target.dataset;
    if (choose !== undefined) this.decide({ numbers: [Number(choose)], doing: event.target.value });
    if (event.target.matches("[data-bulk]") && event.target.value !== "-")
      this.decide({ everything: true, group: this.group, text: this.text, doing: event.target.value });
  },
  async decide(body) {
    try {
      const { count: some } = await json(`/sync/${this.token}/choose`, { body });
      if (body.everything) notice(some ? `${count(some, "item")} decided.` : "None of these files allows this action.");
    } catch (error) {
      complain(error);
    }
    this.draw();
  },
  filterSoon(input) {
    this.text = input.value;
    clearTimeout(this.soon);
    this.soon = setTimeout(() => this.draw(), 200);
  },
  act(event) {
    const button = event.target.closest("button");
    if (!button) return;
    const { do: act, group, differ, mergeRow } = button.dataset;
    if (group !== undefined) {
      this.group = group;
      this.draw();
    }
    if (differ !== undefined) this.differences(button);
    if (mergeRow !== undefined) {
      this.merging = mergeRow;
      dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `/sync/${this.token}/rows/${mergeRow}/merge` } }));
    }
    if (act === "read") this.read();
    if (act === "stop") this.leave();
    if (act === "more") this.more();
    if (act === "newer") this.decide({ everything: true, doing: "newer" });
    if (act === "anew") this.draw(`/sync/${this.token}/anew`, { body: {} });
    if (act === "by-folder") {
      this.byFolder = !this.byFolder;
      this.draw();
    }
    if (act === "by-content") {
      this.$refs.wish.elements.compare.value = "content";
      this.read();
    }
    if (act === "timer")
      location.href = `/timers?pair=${this.data.pair}&direction=${this.wish.direction}&removals=${this.wish.removals}#new`;
    if (act === "ways") {
      this.$refs.ways.hidden = !this.$refs.ways.hidden;
      button.setAttribute("aria-expanded", String(!this.$refs.ways.hidden));
    }
    if (act === "add-pair") this.addPair(button.closest("[data-pair-form]"));
  },
  async leave() {
    const { token } = this;
    this.fail("Reading stopped", "", "Nothing was changed on either side.");
    try {
      await json(`/sync/${token}/let-go`, { body: {} });
    } catch {
      /* it is gone already */
    }
  },
  async differences(button) {
    const row = button.closest("tr");
    const open = row.nextElementSibling?.matches(".differs-row");
    button.setAttribute("aria-expanded", String(!open));
    if (open) {
      row.nextElementSibling.remove();
      return;
    }
    try {
      const text = await html(`/sync/${this.token}/rows/${button.dataset.differ}/difference`);
      const shown = document.createElement("tr"),
        cell = document.createElement("td");
      shown.className = "differs-row";
      cell.colSpan = row.cells.length;
      cell.innerHTML = text;
      shown.append(cell);
      row.after(shown);
    } catch (error) {
      button.setAttribute("aria-expanded", "false");
      complain(error);
    }
  },
  async settled(decision) {
    if (this.merging === null) return;
    const row = this.merging;
    this.merging = null;
    try {
      await json(`/sync/${this.token}/rows/${row}/merged`, { body: { text: mergedText(decision) } });
      notice("Both changes will be on both sides once the plan is carried out.");
    } catch (error) {
      complain(error);
    }
    this.draw();
  },
  async storeWays() {
    const form = this.$refs.ways;
    const sieves = [...form.querySelectorAll("[name=sieve]:checked:not(:disabled)")].map((one) => Number(one.value));
    try {
      await json(`/pairs/${this.data.pair}/ways`, {
        body: {
          sieves,
          sends: Boolean(form.elements.sends?.checked),
          send_after_s: Number(form.elements.after?.value || 5),
        },
      });
      form.hidden = true;
      this.read();
    } catch (error) {
      complain(error);
    }
  },
  // A plain form: the answer is the page of the new pair.
  addPair(place) {
    const form = document.createElement("form");
    Object.assign(form, { method: "post", action: place.dataset.pairForm, hidden: true });
    const field = (name, value) => {
      const input = document.createElement("input");
      Object.assign(input, { name, value });
      form.append(input);
    };
    field("csrf", document.querySelector('meta[name="csrf"]').content);
    place.querySelectorAll("[name^=pair-]").forEach((one) => field(one.name.slice(5), one.value));
    document.body.append(form);
    form.submit();
  },
  async carryOut(form) {
    if (!form.matches("[data-carry-out]")) return;
    const button = form.querySelector("[data-test=carry-out]"),
      place = form.querySelector("[data-part=problem]");
    button.disabled = true;
    try {
      const { address } = await json(`/sync/${this.token}/carry-out`, {
        body: {
          number: Number(form.dataset.number),
          typed: form.elements.typed?.value || "",
          guarded_confirmed: Boolean(form.elements.guarded?.checked),
        },
      });
      location.href = address;
    } catch (error) {
      button.disabled = false;
      place.textContent = error.message;
      if (error.status === 409) this.drawAnew(error.message);
    }
  },
  // Another window, or a choice on its way, decided otherwise: what would be done now is shown, with why.
  async drawAnew(why) {
    await this.draw();
    const place = this.$refs.body.querySelector("[data-part=problem]");
    if (place) place.textContent = why;
  },
});
