// Both sides of a page in frames of another origin, as wide as a phone or a desk, with what each request got.
import { html } from "../../lib/ask.js";
import { complain } from "../../lib/notice.js";

const LOOK_EVERY_MS = 900;
const QUIET_LOOKS = 4;
const TALL = 620;
const DESK = 1280;
const PHONE = 390;
const NARROW = 800;

export default () => ({
  width: DESK,
  timer: 0,
  seen: "",
  quiet: 0,
  watcher: null,
  init() {
    if (!this.$root.dataset.token) return;
    this.choose(innerWidth < NARROW ? PHONE : DESK);
    this.watcher = new ResizeObserver(() => this.fit());
    this.watcher.observe(this.$refs.both);
    this.look();
  },
  destroy() {
    clearTimeout(this.timer);
    this.watcher?.disconnect();
  },
  // Each frame is as wide as the screen it stands for, and made smaller to fit its side.
  fit() {
    this.$root.querySelectorAll("[data-framed]").forEach((place) => {
      const scale = Math.min(1, place.clientWidth / this.width);
      const frame = place.querySelector("iframe");
      frame.style.width = `${this.width}px`;
      frame.style.height = `${TALL / scale}px`;
      frame.style.transform = `scale(${scale})`;
      place.style.height = `${TALL}px`;
    });
  },
  async look() {
    try {
      const text = await html(this.$refs.told.dataset.part);
      this.quiet = text === this.seen ? this.quiet + 1 : 0;
      if (text !== this.seen) this.$refs.told.innerHTML = text;
      this.$root.querySelector("[data-count-shown]").innerHTML =
        this.$refs.told.querySelector("[data-count]").innerHTML;
      this.seen = text;
    } catch (error) {
      complain(error);
      return;
    }
    if (this.quiet < QUIET_LOOKS) this.timer = setTimeout(() => this.look(), LOOK_EVERY_MS);
  },
  act(event) {
    const button = event.target.closest("button[data-width]");
    if (!button) return;
    this.choose(Number(button.dataset.width));
    this.quiet = 0;
    clearTimeout(this.timer);
    this.look();
  },
  choose(width) {
    this.width = width;
    this.$root.querySelectorAll("button[data-width]").forEach((one) => {
      one.setAttribute("aria-pressed", String(Number(one.dataset.width) === width));
    });
    this.fit();
  },
});
