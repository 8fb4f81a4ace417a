// How much of what was dropped has come to Nailer; how far the server is, the jobs tell.
export default () => ({
  under: new Map(),
  count: 0,
  share: 0,
  init() {
    this.hear = (event) => {
      const { job, came, all, isOver } = event.detail;
      if (isOver) this.under.delete(job);
      else this.under.set(job, { came, all });
      const sums = [...this.under.values()].reduce((sum, one) => [sum[0] + one.came, sum[1] + one.all], [0, 0]);
      this.count = this.under.size;
      this.share = sums[1] ? sums[0] / sums[1] : 0;
    };
    addEventListener("nailer:sending", this.hear);
  },
  destroy() {
    removeEventListener("nailer:sending", this.hear);
  },
  get some() {
    return this.count > 0;
  },
  get text() {
    return `Uploading to Nailer: ${Math.floor(this.share * 100)}%. Keep this page open. If it is interrupted, drop the same files again.`;
  },
});
