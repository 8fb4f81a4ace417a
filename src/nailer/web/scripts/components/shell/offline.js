// Says plainly that this device is offline, and since when: what is shown then was read before that.
const words = () => new Date().toLocaleTimeString([], { hour: "2-digit", minute: "2-digit" });
export default () => ({
  off: !navigator.onLine,
  since: words(),
  init() {
    this.went = () => {
      this.off = true;
      this.since = words();
    };
    this.came = () => {
      this.off = false;
    };
    addEventListener("offline", this.went);
    addEventListener("online", this.came);
  },
  destroy() {
    removeEventListener("offline", this.went);
    removeEventListener("online", this.came);
  },
  get text() {
    const said = `This device has been offline since ${this.since}. This page shows the state before that;`;
    return `${said} nothing can be changed now. Jobs continue in Nailer.`;
  },
});
