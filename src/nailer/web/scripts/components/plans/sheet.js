// The sheet in front of the page: a plan to read and carry out, or a small question. Events open it, it answers by events.
import { html, json } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";
import { Sending } from "../../lib/sending.js";
const BUSY_AFTER_MS = 200;
export default () => ({
  init() {
    addEventListener("nailer:plan", (event) => this.plan(event.detail));
    addEventListener("nailer:ask", (event) => this.ask(event.detail));
    addEventListener("nailer:show", (event) => this.showPart(event.detail));
  },
  // { url, body, files? }: makes a plan and shows it. `files` are what a browser will send, by the names below the drop.
  async plan({ url, body, files }) {
    this.asking?.abort();
    const asking = new AbortController();
    this.asking = asking;
    const waits = setTimeout(() => this.showBusy(), BUSY_AFTER_MS);
    try {
      const text = await html(url, { body, signal: asking.signal });
      clearTimeout(waits);
      this.again = { url, body, files };
      this.show(text);
    } catch (error) {
      clearTimeout(waits);
      if (asking !== this.asking) return;
      if (this.$refs.body.querySelector(".plan-busy")) this.$root.close();
      complain(error);
    } finally {
      if (asking === this.asking) this.asking = null;
    }
  },
  // What takes longer than a moment says so, and can be given up.
  showBusy() {
    const busy = document.createElement("div"),
      title = document.createElement("h2"),
      said = document.createElement("p"),
      bar = document.createElement("progress"),
      close = document.createElement("button");
    busy.className = "plan-busy";
    busy.setAttribute("role", "status");
    title.textContent = "Preparing the plan …";
    said.textContent = "Nailer reads both sides. Nothing is changed.";
    Object.assign(close, { type: "button", className: "btn btn-quiet", textContent: "Cancel" });
    close.dataset.sheet = "close";
    busy.append(title, said, bar, close);
    this.$refs.body.replaceChildren(busy);
    if (!this.$root.open) this.$root.showModal();
  },
  // { title, verb, label, value, sides, done }: asks for a line of text; with `choices` ({ value, word, help }) for one of
  // them. `verb` is what the button does.
  ask({
    title,
    verb,
    label = "",
    value = "",
    sides = null,
    side = "there",
    also = "",
    alsoOf = null,
    choices = null,
    done,
  }) {
    const form = document.getElementById("sheet-ask").content.cloneNode(true).firstElementChild;
    form.querySelector("h2").textContent = title;
    form.querySelector("[data-sheet=go]").textContent = verb;
    form.querySelector("label.ask-label").textContent = label;
    const input = form.querySelector("input[name=text]");
    input.value = value;
    if (sides) form.querySelector(".side-choice").hidden = false;
    form.querySelectorAll("[name=side]").forEach((one) => {
      one.checked = one.value === side;
      one.disabled = Boolean(sides) && !sides.includes(one.value);
    });
    form.querySelector(".ask-also").hidden = !also;
    form.querySelector(".ask-also span").textContent = also;
    if (choices) this.offer(form, choices);
    if (alsoOf) this.fillAlso(form, alsoOf);
    this.done = done;
    this.$refs.body.replaceChildren(form);
    this.$root.showModal();
    if (choices) return form.querySelector("[data-sheet=go]").focus();
    input.focus();
    input.setSelectionRange(0, value.includes(".") ? value.lastIndexOf(".") : value.length);
  },
  // What the tick is about is found out meanwhile, for the side that is chosen; it is set where that says so.
  fillAlso(form, alsoOf) {
    const tick = form.elements.also,
      said = form.querySelector(".ask-also span");
    const look = async () => {
      const side = form.elements.side.value;
      tick.disabled = true;
      try {
        const { text, checked } = await alsoOf(side);
        if (form.elements.side.value !== side) return;
        Object.assign(tick, { checked, disabled: !checked });
        said.textContent = text;
      } catch (error) {
        said.textContent = `What links to it could not be read: ${error.message}`;
      }
    };
    form.querySelectorAll("[name=side]").forEach((one) => one.addEventListener("change", look));
    look();
  },
  offer(form, choices) {
    form.querySelectorAll("[name=text], label.ask-label").forEach((one) => one.remove());
    const place = form.querySelector(".ask-choices");
    place.hidden = false;
    choices.forEach(({ value, word, help }, at) => {
      const line = document.createElement("label"),
        input = document.createElement("input"),
        said = document.createElement("span"),
        strong = document.createElement("b"),
        small = document.createElement("small");
      line.className = "choice";
      Object.assign(input, { type: "radio", name: "choice", value, checked: at === 0 });
      input.dataset.test = `choice-${value}`;
      strong.textContent = word;
      small.textContent = help;
      said.append(strong, small);
      line.append(input, said);
      place.append(line);
    });
  },
  show(text) {
    this.$refs.body.innerHTML = text;
    // The browser looks for `autofocus` only as a dialog opens; one that is open already leaves the focus nowhere.
    if (this.$root.open) this.$refs.body.querySelector("[autofocus]")?.focus();
    else this.$root.showModal();
    this.$refs.body.querySelectorAll("[data-lazy]").forEach(async (place) => {
      try {
        place.innerHTML = await html(place.dataset.lazy);
      } catch (error) {
        place.textContent = error.message;
      }
    });
  },
  // { title, url }: something to read.
  async showPart({ title, url }) {
    try {
      const text = await html(url);
      const head = document.createElement("header"),
        word = document.createElement("h2"),
        close = document.createElement("button");
      word.textContent = title;
      Object.assign(close, { type: "button", className: "plain", textContent: "Close" });
      close.dataset.sheet = "close";
      head.append(word, close);
      this.show(text);
      this.$refs.body.prepend(head);
    } catch (error) {
      complain(error);
    }
  },
  // The decision on two changes of one file goes to the editor.
  settle(button) {
    const form = button.closest("form");
    const pieces = JSON.parse(form.querySelector("[data-pieces]").textContent);
    const theirs =
      button.dataset.take === "theirs" ? JSON.parse(form.querySelector("[data-theirs]").textContent) : null;
    const choices = [...form.querySelectorAll(".clash")].map((one) => one.querySelector("input:checked")?.value);
    if (theirs === null && choices.includes(undefined)) return this.problem("Choose a version for each place first.");
    this.$root.close();
    dispatchEvent(new CustomEvent("nailer:settle", { detail: { pieces, choices, theirs } }));
  },
  act(event) {
    const settle = event.target.closest("[data-settle], [data-take]");
    if (settle) return this.settle(settle);
    const button = event.target.closest("[data-sheet]");
    if (!button || button.dataset.sheet === "go") return;
    if (button.dataset.sheet === "reading") return this.reread(button.value === "yes");
    event.preventDefault();
    if (button.dataset.sheet === "close") this.$root.close();
    if (button.dataset.sheet === "as-it-is") this.asItIs();
    if (button.dataset.sheet === "place") this.elsewhere(button.dataset.place);
    if (button.dataset.sheet === "leave-out") this.leaveOut(button.dataset.what, Boolean(button.dataset.sieve));
    if (button.dataset.sheet === "differences") this.differences(button);
    if (["rename-hurting", "in-place", "add-lacking"].includes(button.dataset.sheet))
      this.planAnew(button.dataset.sheet);
    if (button.dataset.sheet === "despite")
      this.plan({ ...this.again, body: { ...this.again.body, despite_sieves: true } });
    if (button.dataset.sheet === "resend")
      this.plan({ ...this.again, body: { ...this.again.body, resend_same: true } });
  },
  // The same names into another folder of the same side; this plan is put away.
  elsewhere(place) {
    const { url, body, files } = this.again;
    const side = body.to_side;
    this.closed();
    this.plan({ url, files, body: "folder" in body ? { ...body, folder: place } : { ...body, [side]: place } });
  },
  // The archive itself, not what is in it.
  asItIs() {
    const { url, body, files } = this.again;
    const [{ below, file }] = files;
    this.closed();
    this.plan({
      url: url.replace(/unpack$/, "drop"),
      body: {
        to_side: body.to_side,
        folder: body.folder,
        files: [{ below, size: file.size, modified_ms: file.lastModified }],
      },
      files,
    });
  },
  // The other reading of an archive that holds one folder.
  reread(without) {
    if (this.again.body.without_top === without) return;
    const { url, body, files } = this.again;
    const staged = this.$refs.body.querySelector("[data-staged]")?.dataset;
    this.closed(staged ? "?keep=1" : "");
    const lies = staged ? { staged: staged.staged, files: Number(staged.files), links: Number(staged.links) } : {};
    this.plan({ url, files, body: { ...body, ...lies, without_top: without } });
  },
  // What a step changes, below its row; asked for again, it goes.
  async differences(button) {
    const row = button.closest("tr"),
      job = this.$refs.body.querySelector("form.plan").dataset.job;
    if (row.nextElementSibling?.matches(".differs-row")) return row.nextElementSibling.remove();
    try {
      const text = await html(`/plans/${job}/differences/${button.value}`);
      const shown = document.createElement("tr"),
        cell = document.createElement("td");
      shown.className = "differs-row";
      cell.colSpan = row.cells.length;
      cell.innerHTML = text;
      shown.append(cell);
      row.after(shown);
    } catch (error) {
      this.problem(error.message);
    }
  },
  // The server makes another plan of this one: with better names, in place, with what it lacks.
  async planAnew(how) {
    const form = this.$refs.body.querySelector("form.plan");
    try {
      this.show(await html(`/plans/${form.dataset.job}/${how}`, { body: {} }));
    } catch (error) {
      this.problem(error.message);
    }
  },
  async leaveOut(what, asSieve) {
    const form = this.$refs.body.querySelector("form.plan");
    try {
      this.show(await html(`/plans/${form.dataset.job}/leave-out`, { body: { what, as_sieve: asSieve } }));
    } catch (error) {
      this.problem(error.message);
    }
  },
  changed() {
    this.problem("");
  },
  async submitted(event) {
    const form = event.target;
    if (form.dataset.plan) return this.planOf(form);
    return form.dataset.job ? this.carryOut(form) : this.answer(form);
  },
  async answer(form) {
    try {
      await this.done({
        text: form.elements.text?.value,
        side: form.elements.side.value,
        also: form.elements.also.checked,
        choice: form.elements.choice?.value,
      });
      this.$root.close();
    } catch (error) {
      this.problem(error.message);
    }
  },
  // A form that asks for the rest of a plan: its fields join what it was made with.
  async planOf(form) {
    const fields = Object.fromEntries(new FormData(form));
    const body = { ...JSON.parse(form.dataset.body), ...fields, site: Number(fields.site), move: Boolean(fields.move) };
    try {
      const text = await html(form.dataset.plan, { body });
      this.again = { url: form.dataset.plan, body };
      this.show(text);
    } catch (error) {
      this.problem(error.message);
    }
  },
  async carryOut(form) {
    // A run that is taken back has a job for each side that changes.
    const jobs = form.dataset.job.split(" ");
    const button = form.querySelector("[data-sheet=go]");
    button.disabled = true;
    try {
      const choice = form.elements.choice?.value || "replace";
      const clashes = form.elements.clashes?.value || null;
      const rows = Object.fromEntries(
        [...form.querySelectorAll("[data-row]")].filter((one) => one.value).map((one) => [one.dataset.row, one.value]),
      );
      for (const job of jobs)
        await json(`/plans/${job}/carry-out`, {
          body: {
            choice,
            clashes,
            rows,
            guarded_confirmed: Boolean(form.elements.guarded?.checked),
            typed: form.elements.typed?.value || "",
          },
        });
      form.dataset.job = "";
      this.$root.close();
      jobs.forEach((job) =>
        dispatchEvent(new CustomEvent("nailer:transferring", { detail: { job: Number(job), url: this.again?.url } })),
      );
      if (form.dataset.drop) await this.sendAll(jobs[0], this.again.files);
    } catch (error) {
      button.disabled = false;
      this.problem(error.message);
      if (!this.$root.open) complain(error);
    }
  },
  async sendAll(job, files) {
    const { items } = await json(`/drops/${job}/begin`, { body: {} });
    const byName = new Map(files.map((one) => [one.below.map(encodeName).join("/"), one.file]));
    await new Sending(job, Object.entries(items), byName).run();
  },
  problem(text) {
    const place = this.$refs.body.querySelector("[data-part=problem]");
    if (place) place.textContent = text;
  },
  closed(how = "") {
    this.asking?.abort();
    this.asking = null;
    const form = this.$refs.body.querySelector("form.plan");
    for (const job of (form?.dataset.job || "").split(" "))
      if (job) json(`/plans/${job}/put-away${typeof how === "string" ? how : ""}`, { body: {} }).catch(() => {});
    this.$refs.body.replaceChildren();
  },
});

// As the server writes a name in a token: UTF-8, percent-encoded but for letters, digits and - _ . ~
function encodeName(name) {
  return encodeURIComponent(name).replace(/[!'()*]/g, (sign) => `%${sign.charCodeAt(0).toString(16).toUpperCase()}`);
}
