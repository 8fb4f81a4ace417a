// A smaller copy beside the original: its button makes the plan that puts it in the original's place.
export default () => ({
  plan(event) {
    const { site, path } = this.$root.dataset;
    const { width, quality } = event.currentTarget.dataset;
    const body = { path, width: Number(width), quality: Number(quality) };
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url: `/sites/${site}/checks/picture`, body } }));
  },
});
