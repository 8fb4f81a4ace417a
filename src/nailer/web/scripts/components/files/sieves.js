// Builds a sieve by picking and typing; what it catches in a pair is told while it changes.
import { html, json } from "../../lib/ask.js";
import { complain, notice } from "../../lib/notice.js";
const HOWS = [
  ["any", "or"],
  ["all", "and"],
  ["none", "none of"],
];
const make = (tag, fields = {}, ...inside) => {
  const element = Object.assign(document.createElement(tag), fields);
  element.append(...inside);
  return element;
};
const choice = (label, options, value, change) => {
  const select = make("select", { className: "form-select part-select" });
  select.setAttribute("aria-label", label);
  for (const [key, word] of options)
    select.append(make("option", { value: key, textContent: word, selected: key === value }));
  select.addEventListener("change", () => change(select.value));
  return select;
};
const counted = (some, word) => `${some.length} ${word}${some.length === 1 ? "" : "s"}`;

export default () => ({
  refused: "",
  wrong: "",
  // What storing was refused for stays until it is tried again: an attempt that comes a moment later must not hide it.
  get problem() {
    return this.refused || this.wrong;
  },
  init() {
    const state = JSON.parse(document.getElementById("sieve-state").textContent);
    Object.assign(this, { rule: state.rule, exceptions: state.always, tests: state.tests, kinds: state.kinds });
    this.draw();
    this.attempt();
  },
  destroy() {
    clearTimeout(this.timer);
  },
  draw() {
    this.$refs.rule.replaceChildren(
      make("span", { className: "muted", textContent: "Everything that " }),
      this.group(this.rule, null),
    );
    this.$refs.always.replaceChildren(...this.exceptions.map((text, at) => this.exception(text, at)));
  },
  // One group: its parts, the word between them, and what adds to it. A nested one can be taken out.
  group(rule, parent) {
    const place = make("span", { className: parent ? "group nested" : "group" });
    if (rule.how === "none") place.append(make("span", { className: "muted", textContent: "matches none of: " }));
    rule.parts.forEach((part, at) => {
      if (at)
        place.append(
          at === 1
            ? this.how(rule)
            : make("span", { className: "muted", textContent: ` ${rule.how === "all" ? "and" : "or"} ` }),
        );
      place.append(part.parts ? this.group(part, rule) : this.part(part, rule));
    });
    if (rule.parts.length < 2) place.append(this.how(rule));
    place.append(this.button("plus", "Another condition", () => rule.parts.push({ test: "pattern", value: "" })));
    if (!parent)
      place.append(
        this.button("braces", "Group: conditions that are combined on their own (any, all or none)", () =>
          rule.parts.push({
            how: "all",
            parts: [
              { test: "kind", value: "picture" },
              { test: "larger", value: "8 MB" },
            ],
          }),
        ),
      );
    else place.append(this.button("x", "Remove this group", () => parent.parts.splice(parent.parts.indexOf(rule), 1)));
    return place;
  },
  how(rule) {
    return choice("How these conditions are combined", HOWS, rule.how, (value) => {
      rule.how = value;
      this.changed();
    });
  },
  part(part, rule) {
    const place = make("span", { className: "part chip here" });
    place.append(
      choice("Property to test", this.tests, part.test, (value) => {
        part.test = value;
        part.value = { kind: "picture", pattern: "", larger: "8 MB", smaller: "1 kB", older: "365", newer: "7" }[value];
        this.changed();
      }),
    );
    if (part.test === "kind")
      place.append(
        choice("Which kind", this.kinds, part.value, (value) => {
          part.value = value;
          this.soon();
        }),
      );
    else {
      const input = make("input", {
        className: "form-control mono part-input",
        value: part.value,
        placeholder: { pattern: "*.tif or drafts/", larger: "8 MB", smaller: "1 kB" }[part.test] || "days",
        spellcheck: false,
      });
      input.setAttribute("aria-label", { pattern: "Pattern", larger: "Size", smaller: "Size" }[part.test] || "Days");
      input.dataset.test = "part-value";
      input.addEventListener("input", () => {
        part.value = input.value;
      });
      place.append(input);
      if (["older", "newer"].includes(part.test)) place.append(make("span", { textContent: "days" }));
    }
    place.append(this.button("x", "Remove this condition", () => rule.parts.splice(rule.parts.indexOf(part), 1)));
    return place;
  },
  exception(text, at) {
    const place = make("span", { className: "part chip good" });
    const input = make("input", {
      className: "form-control mono part-input",
      value: text,
      placeholder: "press/*.tif",
      spellcheck: false,
    });
    input.setAttribute("aria-label", "Always transfer");
    input.addEventListener("input", () => {
      this.exceptions[at] = input.value;
    });
    place.append(
      input,
      this.button("x", "Remove this exception", () => this.exceptions.splice(at, 1)),
    );
    return place;
  },
  button(icon, word, act) {
    const button = make(
      "button",
      { type: "button", className: "plain", title: word },
      make("i", { className: `bi bi-${icon}` }),
    );
    button.setAttribute("aria-label", word);
    if (icon === "braces") button.append(" group");
    button.addEventListener("click", (event) => {
      event.stopPropagation();
      act();
      this.changed();
    });
    return button;
  },
  changed() {
    this.draw();
    this.soon();
    const inputs = this.$refs.rule.querySelectorAll(".part-input");
    const empty = [...inputs].find((one) => !one.value);
    empty?.focus();
  },
  soon() {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.attempt(), 300);
  },
  get body() {
    const form = this.$refs.form.elements;
    const kept = (rule) => ({
      ...rule,
      parts: rule.parts
        .map((one) => (one.parts ? kept(one) : one))
        .filter((one) => (one.parts ? one.parts.length : String(one.value).trim())),
    });
    return {
      name: form.name.value,
      rule: kept(this.rule),
      always: this.exceptions.filter((one) => one.trim()),
      stays: form.stays.checked,
      unseen: form.unseen.checked,
      everywhere: form.everywhere.checked,
      pair: Number(this.$refs.pair.value) || 0,
    };
  },
  async attempt() {
    this.asking?.abort();
    const asking = new AbortController();
    this.asking = asking;
    try {
      const text = await html("/sieves/try", {
        body: { ...this.body, name: this.body.name || "New sieve" },
        signal: asking.signal,
      });
      this.$refs.tried.innerHTML = text;
      this.$refs.words.replaceChildren(this.$refs.tried.querySelector("[data-part=words]").content);
      this.wrong = "";
    } catch (error) {
      if (error.name !== "AbortError") this.wrong = error.message;
    }
  },
  async store() {
    this.refused = "";
    try {
      const { id } = await json(this.$root.dataset.id === "0" ? "/sieves" : `/sieves/${this.$root.dataset.id}`, {
        body: this.body,
      });
      location.href = `?open=${id}&pair=${this.$refs.pair.value}`;
    } catch (error) {
      this.refused = error.message;
    }
  },
  async act(event) {
    const button = event.target.closest("button");
    if (!button) return;
    const { do: act, move, carry } = button.dataset;
    if (move) this.move(button.closest("[data-sieve]"), Number(move));
    if (carry) {
      this.exceptions.push(`/${carry}`);
      this.changed();
    }
    if (act === "always") {
      this.exceptions.push("");
      this.draw();
      this.$refs.always.querySelector(".part:last-child input").focus();
    }
    if (act === "paste") {
      this.$refs.paste.hidden = !this.$refs.paste.hidden;
      this.$refs.pasted.focus();
    }
    if (act === "take-ignore") this.takeIgnore();
    if (["on", "off", "remove"].includes(act)) this.switch(act);
  },
  async switch(act) {
    if (
      act === "remove" &&
      !confirm("Remove this sieve? Pairs that use it will transfer the files that stayed behind again.")
    )
      return;
    try {
      await json(`/sieves/${this.$root.dataset.id}/${act}`, { body: {} });
      location.href = act === "remove" ? "/sieves" : location.href;
      if (act !== "remove") location.reload();
    } catch (error) {
      complain(error);
    }
  },
  async takeIgnore() {
    try {
      const { parts, always, notes } = await json("/sieves/read-ignore", { body: { text: this.$refs.pasted.value } });
      this.rule.parts.push(...parts);
      this.exceptions.push(...always);
      this.$refs.notes.replaceChildren(
        ...notes.map((text) => make("p", { className: "callout warn", textContent: text })),
      );
      notice(`${counted(parts, "pattern")} and ${counted(always, "exception")} added to the rule.`);
      this.changed();
    } catch (error) {
      complain(error);
    }
  },
  async move(row, by) {
    const other = by < 0 ? row.previousElementSibling : row.nextElementSibling;
    if (!other) return;
    other[by < 0 ? "before" : "after"](row);
    row.querySelector(`[data-move="${by}"]`)?.focus();
    const sieves = [...this.$refs.list.querySelectorAll("[data-sieve]")].map((one) => Number(one.dataset.sieve));
    try {
      await json("/sieves/order", { body: { sieves } });
      notice("The order has been saved.");
    } catch (error) {
      complain(error);
    }
  },
});
