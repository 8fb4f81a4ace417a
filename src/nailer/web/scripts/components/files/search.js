// The search of a side: reads hits while they come, keeps at most so many rows, and makes plans of what is picked.
import { complain } from "../../lib/notice.js";
const MOST_ROWS = 2000;
const DRAW_MS = 120;
export default () => ({
  hits: [],
  picked: new Set(),
  count: 0,
  pickedCount: 0,
  searching: false,
  shown: false,
  state: "",
  sort: "",
  ended: false,
  init() {
    this.sort = this.$root.dataset.sort;
    if (this.$root.dataset.begun) this.begin();
  },
  destroy() {
    this.stop();
  },
  async begin() {
    this.stop();
    Object.assign(this, {
      hits: [],
      count: 0,
      pickedCount: 0,
      searching: true,
      shown: true,
      ended: false,
      state: "reading …",
      unread: 0,
    });
    this.picked.clear();
    this.$refs.rows.replaceChildren();
    const query = new URLSearchParams(new FormData(this.$refs.form));
    const asking = new AbortController();
    this.asking = asking;
    try {
      const response = await fetch(`${this.$root.dataset.hits}?${query}`, {
        signal: asking.signal,
        headers: { Accept: "application/json" },
      });
      if (!response.ok) throw new Error((await response.json()).what);
      await this.hear(response.body.pipeThrough(new TextDecoderStream()).getReader());
    } catch (error) {
      if (error.name !== "AbortError") {
        this.state = "";
        complain(error);
      }
    }
    if (this.asking !== asking) return;
    this.searching = false;
    this.draw();
  },
  async hear(reader) {
    let rest = "",
      drawn = 0;
    for (;;) {
      const { value, done } = await reader.read();
      if (done) return;
      const lines = (rest + value).split("\n");
      rest = lines.pop();
      lines.forEach((line) => this.take(JSON.parse(line)));
      if (performance.now() - drawn > DRAW_MS) {
        this.draw();
        drawn = performance.now();
      }
    }
  },
  take(line) {
    if (line.token) this.hits.push(line);
    else if (line.problem) {
      this.state = line.problem;
      complain(new Error(line.problem));
    } else if (line.end) {
      this.ended = true;
      this.state = `${this.state}, finished`;
    } else {
      this.unread += line.unread ? 1 : 0;
      const folders = `${line.folders} folder${line.folders === 1 ? "" : "s"}`;
      const unread = this.unread ? `, ${this.unread} could not be` : "";
      this.state = `${folders}, ${line.names} names read${unread}`;
    }
  },
  stop() {
    this.asking?.abort();
    if (this.searching) this.state = `${this.state}, stopped`;
    this.searching = false;
  },
  draw() {
    this.count = this.hits.length;
    if (this.sort === "size") this.hits.sort((one, other) => other.size - one.size);
    if (this.sort === "time") this.hits.sort((one, other) => other.at - one.at);
    this.$refs.rows.replaceChildren(
      ...this.hits.slice(0, MOST_ROWS).map((hit) => row(hit, this.picked.has(hit.token))),
    );
  },
  bySize() {
    this.sort = "size";
    this.draw();
  },
  byTime() {
    this.sort = "time";
    this.draw();
  },
  pick(event) {
    const token = event.target.dataset.token;
    if (event.target.checked) this.picked.add(token);
    else this.picked.delete(token);
    this.pickedCount = this.picked.size;
  },
  all(event) {
    this.picked = new Set(event.target.checked ? this.hits.map((hit) => hit.token) : []);
    this.pickedCount = this.picked.size;
    this.draw();
  },
  plan(kind) {
    const { plans, here, there, side } = this.$root.dataset;
    const body = { here, there, side, paths: [...this.picked] };
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `${plans}/${kind}`, body } }));
  },
  transfer() {
    this.plan("transfer-found");
  },
  remove() {
    this.plan("remove-found");
  },
  get resting() {
    return !this.searching;
  },
  get none() {
    return this.pickedCount === 0;
  },
  get nothing() {
    return this.ended && this.count === 0;
  },
  get countText() {
    return `${this.count} found${this.count > MOST_ROWS ? `, the first ${MOST_ROWS} shown` : ""}`;
  },
  get pickedText() {
    return this.pickedCount ? `${this.pickedCount} selected` : "";
  },
});

function row(hit, picked) {
  const line = document.createElement("tr");
  line.innerHTML =
    '<td><input type="checkbox" class="form-check-input"></td>' +
    '<td class="mono"><a></a><div class="small muted"></div></td>' +
    '<td class="r num"></td><td class="num"></td><td class="mono"></td><td class="r"></td>';
  const [box, name, size, changed, permissions, acts] = line.children;
  Object.assign(box.firstChild, { checked: picked, ariaLabel: `Select ${hit.below}` });
  box.firstChild.dataset.token = hit.token;
  Object.assign(name.firstChild, {
    href: hit.edit || hit.folder,
    textContent: hit.below + (hit.kind === "folder" ? "/" : ""),
    title: hit.edit ? `Open it at line ${hit.number}` : "Open its folder",
  });
  const inside = hit.line && `line ${hit.number}: ${hit.line}`;
  name.lastChild.textContent = [inside, hit.held && `stays behind, sieve: ${hit.held}`].filter(Boolean).join(" · ");
  size.textContent = hit.size_text;
  changed.textContent = hit.changed;
  permissions.textContent = hit.permissions;
  if (hit.edit) {
    const link = document.createElement("a");
    Object.assign(link, { href: hit.folder, className: "small", textContent: "its folder" });
    acts.append(link, " ");
  }
  if (hit.fetch) {
    const link = document.createElement("a");
    Object.assign(link, { href: hit.fetch, className: "small", textContent: "to this computer" });
    acts.append(link);
  }
  return line;
}
