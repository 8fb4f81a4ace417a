// The line at the foot of the editor that says where the draft is.
export default () => ({
  text: "",
  init() {
    this.text = this.$root.textContent;
    this.hear = (event) => {
      this.text = event.detail;
    };
    addEventListener("nailer:draft", this.hear);
  },
  destroy() {
    removeEventListener("nailer:draft", this.hear);
  },
});
