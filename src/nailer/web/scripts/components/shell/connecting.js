// Opens a site's connection, then goes on to the files; or shows what is in the way.
const token = () => document.querySelector('meta[name="csrf"]').content;
export default () => ({
  waiting: true,
  answered: false,
  init() {
    this.open({});
  },
  open(headers) {
    return this.ask(this.$root.dataset.open, { headers });
  },
  // Answers to what the server asked go back to it, and the opening goes on.
  answer(event) {
    if (!event.target.matches("[data-answers]")) return;
    event.preventDefault();
    this.ask(event.target.action, { body: new URLSearchParams(new FormData(event.target)) });
  },
  async ask(address, { headers, body }) {
    this.waiting = true;
    this.answered = false;
    try {
      const response = await fetch(address, { method: "POST", body, headers: { "X-CSRF": token(), ...headers } });
      if (response.ok) return location.replace(location.href);
      if (response.status === 401) return location.reload();
      const text = await response.text();
      if (response.headers.get("content-type").includes("json")) this.$refs.answer.textContent = JSON.parse(text).what;
      else this.$refs.answer.innerHTML = text;
      if (this.$refs.answer.querySelector(".meeting.changed")) this.distrust();
    } catch {
      this.$refs.answer.textContent = "Nailer is not responding. Check that it is running.";
    }
    this.waiting = false;
    this.answered = true;
    this.$nextTick(() => this.$refs.answer.querySelector("[autofocus]")?.focus());
  },
  // The page was made before the server was met: what it says of a known key is not true any more.
  distrust() {
    const chip = document.querySelector(".sitehead-name > .chip.good");
    if (!chip) return;
    chip.className = "chip bad";
    chip.textContent = "Identity changed";
  },
  again() {
    this.open({ "X-Again": "1" });
  },
});
