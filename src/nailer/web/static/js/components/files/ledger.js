// The ledger: picking by mouse and keys over windows of rows, the inspector, filters, drops, and what is asked for.
import { html, json, put } from "../../lib/ask.js";
import { readChosen, readDrop } from "../../lib/dropped.js";
import { subscribe } from "../../lib/events.js";
import { complain, notice } from "../../lib/notice.js";
import { takeBack } from "../../lib/takeback.js";
const ARCHIVE = /\.(zip|tar|tgz|txz|tar\.(gz|xz|zst|bz2))$/i;
const ROW = 33;
const BLOCK = 100;
const KEPT_BLOCKS = 40;
export default () => ({
  init() {
    this.data = this.$root.dataset;
    this.total = Number(this.data.total);
    this.query = this.data.ledger;
    this.picked = new Set();
    this.at = -1;
    this.anchor = -1;
    this.blocks = new Map();
    this.takeFirst();
    this.$root.addEventListener("click", (event) => this.acted(event));
    this.listenForDrops();
    this.hearCarried = (event) => this.mine.add(event.detail.job);
    this.mine = new Set();
    addEventListener("nailer:carrying", this.hearCarried);
    this.close = subscribe((event) => this.hear(event));
    this.rollUp();
    this.$refs.scroll.addEventListener("focus", () => {
      if (this.at < 0 && this.total) {
        this.at = 0;
        this.mark();
      }
    });
    this.$refs.scroll.focus({ preventScroll: true });
  },
  destroy() {
    this.close();
    removeEventListener("nailer:carrying", this.hearCarried);
  },

  goBack() {
    history.back();
  },
  goForward() {
    history.forward();
  },
  async pinPlace(event) {
    const button = event.currentTarget,
      pinned = button.getAttribute("aria-pressed") !== "true";
    try {
      await json(button.dataset.places, { body: { here: this.data.here, there: this.data.there, pinned } });
      location.reload();
    } catch (error) {
      complain(error);
    }
  },

  // Windows: rows come in blocks of a hundred; spacers stand for those that are not drawn.
  takeFirst() {
    const rows = [...this.$refs.rows.querySelectorAll("tr")];
    for (let block = 0; block * BLOCK < rows.length; block += 1) {
      const some = rows.slice(block * BLOCK, (block + 1) * BLOCK);
      if (some.length === BLOCK || block * BLOCK + some.length >= this.total) this.blocks.set(block, some);
    }
    this.drawn = "";
    this.draw();
  },
  scrolled() {
    cancelAnimationFrame(this.frame);
    this.frame = requestAnimationFrame(() => this.draw());
  },
  async draw() {
    const scroll = this.$refs.scroll;
    const last = Math.max(0, Math.ceil(this.total / BLOCK) - 1);
    const first = Math.max(0, Math.min(last, Math.floor(scroll.scrollTop / ROW / BLOCK - 0.5)));
    const until = Math.min(last, Math.floor((scroll.scrollTop + scroll.clientHeight) / ROW / BLOCK + 0.5));
    const wanted = [];
    for (let block = first; block <= until; block += 1) wanted.push(block);
    const missing = wanted.filter((block) => !this.blocks.has(block));
    if (missing.length) await Promise.all(missing.map((block) => this.load(block)));
    const state = wanted.join() + missing.length;
    if (state === this.drawn && !missing.length) return;
    this.drawn = wanted.join() + 0;
    const rows = wanted.flatMap((block) => this.blocks.get(block) || []);
    const below = Math.max(0, this.total - (until + 1) * BLOCK);
    this.$refs.rows.replaceChildren(gap(first * BLOCK), ...rows, gap(below));
    this.mark();
  },
  load(block) {
    this.loading ||= new Map();
    if (!this.loading.has(block)) {
      const query = this.query;
      const asked = html(`${query}&offset=${block * BLOCK}&limit=${BLOCK}`)
        .then((text) => {
          if (query !== this.query) return;
          this.blocks.set(block, rowsOf(text));
          if (this.blocks.size > KEPT_BLOCKS) this.blocks.delete(this.blocks.keys().next().value);
        })
        .catch(complain)
        .finally(() => this.loading.delete(block));
      this.loading.set(block, asked);
    }
    return this.loading.get(block);
  },
  async reload() {
    const query = this.query;
    let text;
    try {
      text = await html(`${query}&head=1&limit=${BLOCK}`);
    } catch (error) {
      return complain(error);
    }
    if (query !== this.query) return;
    const parts = document.createElement("div");
    parts.innerHTML = text;
    const rows = parts.querySelector("[data-part=rows]");
    this.$refs.chips.innerHTML = parts.querySelector("[data-part=chips]").innerHTML;
    this.total = Number(rows.dataset.total);
    this.blocks.clear();
    this.blocks.set(0, rowsOf(rows.innerHTML));
    this.$refs.empty.hidden = this.total > 0;
    this.emptyInspector = parts.querySelector("[data-part=inspector]").innerHTML;
    if (!this.picked.size) this.$refs.inspector.innerHTML = this.emptyInspector;
    this.drawn = "";
    await this.draw();
  },
  filterSoon() {
    clearTimeout(this.filterTimer);
    this.filterTimer = setTimeout(() => this.filter(), 150);
  },
  filter() {
    const url = new URL(this.query, location.href);
    const raw = url.search
      .slice(1)
      .split("&")
      .filter((part) => part && !part.startsWith("text="));
    if (this.$refs.filter.value) raw.push(`text=${encodeURIComponent(this.$refs.filter.value)}`);
    this.query = `${url.pathname}?${raw.join("&")}`;
    this.$refs.scroll.scrollTop = 0;
    this.at = -1;
    this.reload();
  },
  clearFilter() {
    this.$refs.filter.value = "";
    this.filter();
    this.$refs.scroll.focus();
  },
  async rollUp() {
    try {
      const answer = await json(`/sites/${this.data.site}/roll-up`, {
        body: { here: this.data.here, there: this.data.there, names: [] },
      });
      if (answer.changed) this.reload();
    } catch (error) {
      complain(error);
    }
  },

  // Picking.
  clicked(event) {
    const row = event.target.closest("tr[data-name]");
    if (!row || event.target.closest("a.open")) return;
    const index = Number(row.dataset.index);
    if (event.shiftKey && this.anchor >= 0) this.pickRange(this.anchor, index, event.ctrlKey || event.metaKey);
    else if (event.ctrlKey || event.metaKey || event.target.closest(".pick")) this.toggle(index, row.dataset.name);
    else this.pickOnly(index, row.dataset.name);
  },
  doubled(event) {
    event.target.closest("tr[data-opens]")?.querySelector("a.open")?.click();
  },
  pickOnly(index, name) {
    this.picked = new Set([name]);
    this.at = this.anchor = index;
    this.mark();
    this.inspect();
  },
  toggle(index, name) {
    this.picked.delete(name) || this.picked.add(name);
    this.at = this.anchor = index;
    this.mark();
    this.inspect();
  },
  async pickRange(from, to, add) {
    const [first, last] = from < to ? [from, to] : [to, from];
    const names = await this.names(first, last);
    this.picked = new Set(add ? [...this.picked, ...names] : names);
    this.at = to;
    this.mark();
    this.inspect();
  },
  async pickAll() {
    const all = await this.names(0, this.total);
    this.picked = this.picked.size >= all.length ? new Set() : new Set(all);
    this.mark();
    this.inspect();
  },
  async names(first, last) {
    const known = [];
    for (let index = first; index <= Math.min(last, this.total - 1); index += 1) {
      const row = this.blocks.get(Math.floor(index / BLOCK))?.[index % BLOCK];
      if (!row)
        return json(`${this.query.replace("/ledger?", "/names?")}&from=${first}&to=${last}`).catch((error) => {
          complain(error);
          return [];
        });
      known.push(row.dataset.name);
    }
    return known;
  },
  mark() {
    for (const row of this.$refs.rows.querySelectorAll("tr[data-name]")) {
      row.setAttribute("aria-selected", String(this.picked.has(row.dataset.name)));
      const here = Number(row.dataset.index) === this.at;
      row.classList.toggle("at", here);
      if (here) {
        row.id = "row-at";
      } else if (row.id) row.removeAttribute("id");
    }
    this.$refs.scroll.setAttribute("aria-activedescendant", this.at >= 0 ? "row-at" : "");
  },

  // Keys.
  keys(event) {
    if (event.target.closest("input, textarea, select")) return;
    const step = {
      ArrowDown: 1,
      ArrowUp: -1,
      PageDown: this.page,
      PageUp: -this.page,
      Home: -this.total,
      End: this.total,
    }[event.key];
    const plain = !event.ctrlKey && !event.metaKey && !event.altKey;
    if (step !== undefined) {
      event.preventDefault();
      this.go(this.at + step, event);
    } else if (event.key === " ") {
      event.preventDefault();
      const row = this.rowAt(this.at);
      if (row) this.toggle(this.at, row.dataset.name);
    } else if (event.key === "a" && (event.ctrlKey || event.metaKey)) {
      event.preventDefault();
      this.pickAll();
    } else if (event.key === "Enter" && event.target === this.$refs.scroll)
      this.rowAt(this.at)?.querySelector("a.open")?.click();
    else if (event.key === "ArrowLeft" && this.data.parent) location.href = this.data.parent;
    else if (event.key === "Escape") {
      this.picked = new Set();
      this.mark();
      this.inspect();
    } else if (plain) this.letter(event);
  },
  letter(event) {
    const act = {
      u: "upload",
      d: "download",
      c: "copy",
      e: "edit",
      v: "look",
      r: "rename",
      n: "new-folder",
      N: "new-file",
      Delete: "remove",
      "/": "filter",
    }[event.key];
    if (!act) return;
    event.preventDefault();
    if (act === "filter") this.$refs.filter.focus();
    else if (act === "new-folder") this.newFolder();
    else if (act === "new-file") this.newFile();
    else if (act === "remove")
      this.$refs.inspector.querySelector("[data-act=remove-there], [data-act=remove-here]")?.click();
    else this.$refs.inspector.querySelector(`[data-act=${act}], [data-act-link=${act}]`)?.click();
  },
  async go(to, event) {
    this.at = Math.max(0, Math.min(to, this.total - 1));
    const scroll = this.$refs.scroll;
    const top = this.at * ROW;
    if (top < scroll.scrollTop) scroll.scrollTop = top;
    else if (top + 2 * ROW > scroll.scrollTop + scroll.clientHeight)
      scroll.scrollTop = top + 2 * ROW - scroll.clientHeight;
    await this.draw();
    const row = this.rowAt(this.at);
    if (event.shiftKey && this.anchor >= 0) return this.pickRange(this.anchor, this.at, false);
    if (!event.ctrlKey && row) return this.pickOnly(this.at, row.dataset.name);
    this.mark();
  },
  rowAt(index) {
    return this.$refs.rows.querySelector(`tr[data-index="${index}"]`);
  },
  get page() {
    return Math.max(1, Math.floor(this.$refs.scroll.clientHeight / ROW) - 2);
  },

  // The inspector, and what its buttons ask for.
  inspect() {
    clearTimeout(this.inspectTimer);
    this.asking?.abort();
    this.emptyInspector ||= this.$refs.inspector.innerHTML;
    if (!this.picked.size) {
      this.$refs.inspector.innerHTML = this.emptyInspector;
      return;
    }
    this.inspectTimer = setTimeout(() => this.askInspector(), 60);
  },
  async askInspector() {
    this.asking = new AbortController();
    try {
      this.$refs.inspector.innerHTML = await html(`/sites/${this.data.site}/inspect`, {
        body: this.wish,
        signal: this.asking.signal,
      });
    } catch (error) {
      complain(error);
    }
  },
  async acted(event) {
    const back = event.target.closest("[data-take-back]");
    if (back) {
      if (await takeBack(back, this.data.site)) this.changed();
      return;
    }
    const button = event.target.closest("[data-act]");
    if (!button) return;
    const act = button.dataset.act;
    if (act === "upload") this.carry("there");
    else if (act === "download") this.carry("here");
    else if (act === "look")
      dispatchEvent(
        new CustomEvent("nailer:plan", {
          detail: { url: `/sites/${this.data.site}/look`, body: { ...this.wish, side: button.dataset.side } },
        }),
      );
    else if (act === "copy") this.plan("copy-form", this.wish);
    else if (act === "remove-there") this.plan("remove", { ...this.wish, side: "there" });
    else if (act === "remove-here") this.plan("remove", { ...this.wish, side: "here" });
    else if (act === "rename") this.rename(button);
    else if (act === "live") this.live(button);
    else if (act === "own-program") this.ownProgram(button.dataset.path);
    else if (act === "pack") this.pack();
    else if (act === "unpack-there") {
      notice("The server is unpacking …");
      this.plan("unpack-there", this.wish);
    } else if (act === "pick-newer") this.pickNewer();
  },
  carry(side) {
    this.plan("carry", { ...this.wish, to_side: side });
  },
  plan(kind, body, files) {
    dispatchEvent(
      new CustomEvent("nailer:plan", { detail: { url: `/sites/${this.data.site}/plans/${kind}`, body, files } }),
    );
  },
  async pickNewer() {
    const found = [];
    for (const joint of ["newer-here", "only-here"]) {
      const raw = this.query
        .split("&")
        .filter((part) => !part.startsWith("joint="))
        .join("&");
      found.push(...(await json(`${raw.replace("/ledger?", "/names?")}&joint=${joint}`).catch(() => [])));
    }
    if (!found.length) return notice("Nothing is newer here or only here.");
    this.picked = new Set(found);
    this.mark();
    this.inspect();
  },
  newFile() {
    const folder = { here: this.data.here, there: this.data.there };
    const done = async ({ text, side, also }) => {
      const ending = text.toLowerCase().match(/\.(\w+)$/)?.[1] || "";
      const template = { html: "page", htm: "page", css: "style", cgi: "script", sh: "script" }[ending] || "";
      const { href } = await json(`/sites/${this.data.site}/new-file`, {
        body: { side, folder: folder[side], name: text, template: also ? template : "" },
      });
      location.href = href;
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "New file",
          label: "Its name",
          value: "",
          sides: ["here", "there"],
          also: "begin with a small template, by its ending: a page, a style, a script",
          done,
        },
      }),
    );
  },
  newFolder() {
    const folder = { here: this.data.here, there: this.data.there };
    const done = async ({ text, side }) => {
      await json(`/sites/${this.data.site}/folders`, { body: { side, folder: folder[side], name: text } });
      this.changed();
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: { title: "New folder", label: "Its name", sides: ["here", "there"], done },
      }),
    );
  },
  rename() {
    const token = [...this.picked][0];
    const row = this.$refs.rows.querySelector(`tr[data-name="${CSS.escape(token)}"]`);
    const sides = ["here", "there"].filter((side) =>
      row?.querySelector(side === "here" ? ".h.size" : ".t.size")?.textContent.trim(),
    );
    const done = async ({ text, side, also }) => {
      const folder = side === "here" ? this.data.here : this.data.there;
      const body = { side, path: `${folder.replace(/\/$/, "")}/${token}`, name: text };
      if (also) return setTimeout(() => this.plan("rename", body));
      await json(`/sites/${this.data.site}/rename`, { body });
      this.picked = new Set();
      this.changed();
    };
    const side = sides.includes("there") ? "there" : "here";
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "Rename",
          label: "Its new name",
          also: "and in the pages that refer to it, by a plan to read first",
          value: this.rowName(token) || "",
          sides,
          side,
          done,
        },
      }),
    );
  },
  async live(button) {
    button.disabled = true;
    const place = button.parentElement.querySelector("[data-part=live]");
    try {
      place.innerHTML = await html(`/sites/${this.data.site}/live?path=${button.dataset.path}`, { body: {} });
    } catch (error) {
      place.textContent = error.message;
    }
    button.disabled = false;
  },
  // The copy here is watched; what another program saves is sent, or offered.
  async ownProgram(path) {
    const sends = confirm(
      "Send each save to the server by itself?\nOK: each save is sent. Cancel: each save is offered first.",
    );
    try {
      const { place } = await json(`/sites/${this.data.site}/own-files`, { body: { path, sends } });
      notice(`Open ${place} in your program. ${sends ? "Each save is sent." : "Each save is offered to be sent."}`, {
        href: "/drafts",
        link: "What is watched",
      });
      this.changed();
    } catch (error) {
      complain(error);
    }
  },
  pack() {
    const first = this.rowName([...this.picked][0]);
    const done = async ({ text }) => {
      await json(`/sites/${this.data.site}/pack`, { body: { ...this.wish, name: text } });
      this.changed();
    };
    dispatchEvent(
      new CustomEvent("nailer:ask", {
        detail: {
          title: "Pack into an archive here",
          label: "Its name (.zip, .tar.gz)",
          value: `${first || "files"}.zip`,
          sides: ["here"],
          side: "here",
          done,
        },
      }),
    );
  },
  rowName(token) {
    return this.$refs.rows
      .querySelector(`tr[data-name="${CSS.escape(token)}"]`)
      ?.querySelector(".name-in > a, .name-in > span")?.textContent;
  },
  get wish() {
    return { here: this.data.here, there: this.data.there, names: [...this.picked] };
  },

  // After a change: read anew, keep the place.
  changed() {
    this.reload().then(() => {
      this.inspect();
      this.rollUp();
      this.drawAround();
    });
  },
  // What stands round the ledger (tree, callouts, status) comes anew from the page itself.
  async drawAround() {
    const response = await fetch(location.href, { headers: { Accept: "text/html" } }).catch(() => null);
    if (!response?.ok) return;
    const page = new DOMParser().parseFromString(await response.text(), "text/html");
    const parts = page.querySelectorAll("[data-anew]");
    document
      .querySelectorAll("[data-anew]")
      .forEach((part, at) => parts[at] && part.replaceChildren(...parts[at].childNodes));
  },
  hear(event) {
    if (event.ended.some((job) => String(job.site) === this.data.site || this.mine.has(job.id))) this.changed();
  },

  // Drops from the person's own computer.
  listenForDrops() {
    const zones = [...this.$root.querySelectorAll("[data-drop-side]")];
    const zoneOf = (event) =>
      event.target.closest("[data-drop-side]") || (event.target.closest(".ledger-place") ? this.$refs.dropthere : null);
    const light = (zone) => zones.forEach((one) => one.classList.toggle("over", one === zone));
    this.$root.addEventListener("dragover", (event) => {
      if (![...event.dataTransfer.types].includes("Files")) return;
      event.preventDefault();
      const zone = zoneOf(event);
      event.dataTransfer.dropEffect = zone ? "copy" : "none";
      light(zone);
    });
    this.$root.addEventListener("dragleave", (event) => {
      if (!this.$root.contains(event.relatedTarget)) light(null);
    });
    this.$root.addEventListener("drop", async (event) => {
      event.preventDefault();
      const zone = zoneOf(event);
      light(null);
      if (zone)
        this.drop(
          zone.dataset.dropSide,
          await readDrop(event.dataTransfer).catch((error) => {
            complain(error);
            return [];
          }),
        );
    });
  },
  // An archive is taken in and unpacked here first; the plan that follows is read like any other.
  async unpack(side, file) {
    notice(`Reading ${file.name} …`);
    try {
      const found = await put(`/sites/${this.data.site}/archives?name=${encodeURIComponent(file.name)}`, file);
      this.plan(
        "unpack",
        { to_side: side, folder: side === "here" ? this.data.here : this.data.there, name: file.name, ...found },
        [{ below: [file.name], file }],
      );
    } catch (error) {
      complain(error);
    }
  },
  chosen(event) {
    this.drop(event.target.dataset.side, readChosen(event.target.files));
    event.target.value = "";
  },
  drop(side, found) {
    if (!found.length) return notice("There was no file in what was dropped.");
    if (found.length === 1 && ARCHIVE.test(found[0].file.name)) return this.unpack(side, found[0].file);
    const files = found.map((one) => ({
      below: one.below,
      size: one.file.size,
      modified_ms: one.file.lastModified || null,
    }));
    this.plan("drop", { to_side: side, folder: side === "here" ? this.data.here : this.data.there, files }, found);
  },
});

function gap(rows) {
  const row = document.createElement("tr");
  row.className = "gap";
  row.setAttribute("aria-hidden", "true");
  const cell = document.createElement("td");
  cell.colSpan = 8;
  cell.style.height = `${rows * ROW}px`;
  row.append(cell);
  row.hidden = rows === 0;
  return row;
}

function rowsOf(text) {
  const holder = document.createElement("template");
  holder.innerHTML = `<table><tbody>${text}</tbody></table>`;
  return [...holder.content.querySelectorAll("tr[data-name]")];
}
