// Tries a connection with what stands in the form: each step as it comes, a reading where it fails, fixes as buttons.
import { complain } from "../../lib/notice.js";
import { json } from "../../lib/ask.js";
import { formOf, set, why } from "../../lib/siteform.js";

const token = () => document.querySelector('meta[name="csrf"]').content;
const nothing = () => ({ title: "", reading: "", words: "", advice: [], fixes: [] });

export default () => ({
  state: "idle",
  writes: false,
  verdict: nothing(),
  question: null,
  meeting: false,
  good: false,
  // Kept here: a button that is gone after its click has no root to ask for.
  init() {
    this.root = this.$root;
    this.place = this.$refs.meeting;
  },
  get form() {
    return formOf(this.root);
  },
  async start() {
    this.clear();
    this.state = "running";
    this.stopping = new AbortController();
    const fields = new URLSearchParams(new FormData(this.form));
    if (this.writes) fields.set("write", "yes");
    this.form.elements.insist.value = "";
    try {
      const response = await fetch("/sites/try", {
        method: "POST",
        body: fields,
        signal: this.stopping.signal,
        headers: { "X-CSRF": token(), Accept: "application/json" },
      });
      if (!response.ok) await this.refused(response);
      else await this.follow(response.body);
    } catch (error) {
      if (error.name !== "AbortError")
        this.verdict = { ...nothing(), title: "Nailer does not answer", reading: "Is it still running?" };
    }
    this.question = null;
    this.settle();
  },
  async follow(body) {
    const reader = body.pipeThrough(new TextDecoderStream()).getReader();
    let rest = "";
    for (;;) {
      const { value, done } = await reader.read();
      if (done) return;
      const lines = (rest + value).split("\n");
      rest = lines.pop();
      lines.forEach((line) => this.hear(JSON.parse(line)));
    }
  },
  hear(told) {
    if (told.key) this.key = told.key;
    else if (told.question) this.ask(told);
    else if (told.step) this.mark(told);
    if (told.done) this.good = !this.failed && !this.meeting;
  },
  mark(told) {
    const row = this.root.querySelector(`[data-step="${told.step}"]`);
    row.className = `step ${told.mark}`;
    row.querySelector(".step-finding").textContent = [told.finding, told.took].filter(Boolean).join(", ");
    if (told.mark === "bad") this.failed = true;
    if (told.learned) set(this.form, told.learned);
    if (told.meeting) {
      this.place.innerHTML = told.meeting;
      this.meeting = true;
    }
    if (told.reading || told.title)
      this.verdict = {
        title: told.title || "",
        reading: told.reading || told.finding,
        words: told.words || "",
        advice: told.advice || [],
        fixes: [...this.verdict.fixes, ...(told.fixes || [])],
      };
  },
  ask(told) {
    this.question = {
      ...told,
      prompts: told.prompts.map((one, at) => ({
        at,
        text: one.text,
        id: `answer-${at}`,
        type: one.seen ? "text" : "password",
      })),
    };
    this.$nextTick(() => this.root.querySelector("[data-answer]")?.focus());
  },
  answer(event) {
    event.preventDefault();
    this.send([...this.root.querySelectorAll("[data-answer]")].map((one) => one.value));
  },
  giveUp() {
    this.send([]);
  },
  async send(answers) {
    const question = this.question.question;
    this.question = null;
    try {
      await json(`/tries/${this.key}/answers`, { body: { question, answers } });
    } catch (error) {
      complain(error);
    }
  },
  async decide(event) {
    event.preventDefault();
    const meeting = event.target,
      problem = meeting.querySelector("[data-problem]");
    const fields = new URLSearchParams(new FormData(meeting, event.submitter));
    const response = await fetch("/tries/trust", {
      method: "POST",
      body: fields,
      headers: { "X-CSRF": token(), Accept: "application/json" },
    });
    if (response.ok) return this.start();
    const told = await response.json().catch(() => ({ what: "Nailer is not responding." }));
    problem.textContent = told.what;
    problem.hidden = false;
  },
  apply(fix) {
    set(this.form, fix.changes);
    for (const name of Object.keys(fix.changes)) why(this.form, name, "set by the connection test", "was-read");
    this.start();
  },
  async refused(response) {
    const told = await response.json().catch(() => ({ what: "Nailer is not responding." }));
    const fields = Object.entries(told.fields || {});
    for (const [name, text] of fields) why(this.form, name, text, "");
    this.verdict = {
      ...nothing(),
      title: told.title || "",
      reading: fields.length
        ? `${told.what} Look at: ${fields.map(([name]) => this.labelOf(name)).join(", ")}.`
        : told.what,
    };
  },
  labelOf(name) {
    return this.form.querySelector(`label[for="f-${name}"]`)?.firstChild.textContent.trim().toLowerCase() || name;
  },
  stop() {
    this.stopping?.abort();
  },
  settle() {
    this.state = "idle";
    this.root.querySelectorAll(".step.running").forEach((row) => {
      row.className = "step";
      row.querySelector(".step-finding").textContent = "";
    });
  },
  clear() {
    this.verdict = nothing();
    this.meeting = this.failed = this.good = false;
    this.place.replaceChildren();
    this.root.querySelectorAll(".step").forEach((row) => {
      row.className = "step";
      row.querySelector(".step-finding").textContent = "";
    });
  },
  get idle() {
    return this.state === "idle";
  },
  get running() {
    return this.state === "running";
  },
  get hasMeeting() {
    return this.meeting;
  },
  get hasQuestion() {
    return this.question !== null;
  },
  get hasInstructions() {
    return Boolean(this.instructions);
  },
  get instructions() {
    return this.question ? this.question.instructions : "";
  },
  get prompts() {
    return this.question ? this.question.prompts : [];
  },
  get title() {
    return this.verdict.title;
  },
  get reading() {
    return this.verdict.reading;
  },
  get words() {
    return this.verdict.words;
  },
  get advice() {
    return this.verdict.advice;
  },
  get fixes() {
    return this.verdict.fixes;
  },
  get hasTitle() {
    return Boolean(this.verdict.title);
  },
  get hasReading() {
    return Boolean(this.verdict.reading);
  },
  get hasWords() {
    return Boolean(this.verdict.words);
  },
  get hasAdvice() {
    return this.verdict.advice.length > 0;
  },
  get quiet() {
    return !this.hasMeeting && !this.hasQuestion && !this.hasReading && !this.good;
  },
});
