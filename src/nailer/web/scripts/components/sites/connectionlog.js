// The connection log: filters what is shown, and fetches what was said since.
import { html } from "../../lib/ask.js";
export default () => ({
  text: "",
  init() {
    this.$refs.rows.scrollTop = this.$refs.rows.scrollHeight;
    this.timer = setInterval(() => {
      if (!document.hidden && !this.text) this.more();
    }, 4000);
  },
  destroy() {
    clearInterval(this.timer);
  },
  async more() {
    const rows = this.$refs.rows,
      last = rows.querySelector("[data-number]:last-of-type");
    const fresh = await html(`${this.$root.dataset.log}?after=${last ? last.dataset.number : 0}`).catch(() => "");
    if (!fresh.includes("data-number")) return;
    rows.querySelector(".log-none")?.remove();
    rows.insertAdjacentHTML("beforeend", fresh);
    rows.scrollTop = rows.scrollHeight;
  },
  async filter(event) {
    this.text = event.target.value;
    this.$refs.rows.innerHTML = await html(`${this.$root.dataset.log}?text=${encodeURIComponent(this.text)}`).catch(
      () => "",
    );
  },
});
