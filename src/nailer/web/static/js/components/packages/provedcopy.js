// What is in a proved copy: all of it, a folder or a file comes back by a plan that is read.
export default () => ({
  act(event) {
    const button = event.target.closest("button[data-do=restore]");
    if (!button) return;
    const { site, copy } = this.$root.dataset;
    const url = `/sites/${site}/packages/copies/${copy}/restore`;
    const body = { below: button.dataset.below };
    dispatchEvent(new CustomEvent("nailer:plan", { detail: { url, body } }));
  },
});
