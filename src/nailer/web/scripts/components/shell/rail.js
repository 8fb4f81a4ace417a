// The bar of places on a phone: the lesser ones behind More, the go-to box by a button.
export default () => ({
  more: false,
  toggle() {
    this.more = !this.more;
  },
  goTo() {
    dispatchEvent(new CustomEvent("nailer:goto"));
  },
  get look() {
    return this.more ? "more" : "";
  },
  get open() {
    return String(this.more);
  },
});
