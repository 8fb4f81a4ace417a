// Sends dropped files to Nailer: small ones whole, large ones in parts that go on where they were after a cut, a closed page
// or another drop of the same file. How far this is, is told by events; how far the server is, the job itself tells.
import { come, patch, put } from "./ask.js";
import { complain, notice } from "./notice.js";

const AT_ONCE = 4;
const IN_PARTS_FROM = 8 * 1024 * 1024;
const PART = 8 * 1024 * 1024;
const WAITS_MS = [1000, 2000, 4000, 8000, 15000, 30000, 30000, 30000, 30000];

const wait = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

export class Sending {
  constructor(job, waiting, files) {
    this.job = job;
    this.waiting = waiting;
    this.files = files;
    this.all = waiting.reduce((sum, [name]) => sum + (files.get(name)?.size || 0), 0);
    this.came = 0;
  }

  async run() {
    const warn = (event) => event.preventDefault();
    addEventListener("beforeunload", warn);
    const next = async () => {
      for (let one = this.waiting.shift(); one; one = this.waiting.shift()) {
        const file = this.files.get(one[0]);
        if (file) await this.one(`/drops/${this.job}/items/${one[1]}`, file).catch(complain);
      }
    };
    await Promise.all(Array.from({ length: AT_ONCE }, next));
    removeEventListener("beforeunload", warn);
    this.tell(true);
  }

  async one(url, file) {
    if (file.size < IN_PARTS_FROM) {
      await put(url, file);
      return this.count(file.size);
    }
    let at = await come(url),
      tries = 0;
    if (at)
      notice(`${file.name} continues at ${Math.floor((100 * at) / file.size)}%. The first part is already in Nailer.`);
    this.count(at);
    for (;;) {
      const until = Math.min(at + PART, file.size);
      try {
        const { problem } = await patch(url, file.slice(at, until), at, until === file.size);
        this.count(until - at);
        at = until;
        tries = 0;
        if (problem) throw Object.assign(new Error(problem), { ended: true });
        if (at === file.size) return;
      } catch (error) {
        if (error.ended || error.answer || tries >= WAITS_MS.length) throw error;
        await wait(WAITS_MS[tries]);
        tries += 1;
        const now = await come(url).catch(() => at);
        this.count(now - at);
        at = now;
      }
    }
  }

  count(bytes) {
    this.came += bytes;
    this.tell(false);
  }

  tell(isOver) {
    const detail = { job: this.job, came: this.came, all: this.all, isOver };
    dispatchEvent(new CustomEvent("nailer:sending", { detail }));
  }
}
