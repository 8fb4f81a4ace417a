// The switch between light and dark, kept in this browser.
export default () => ({
  dark: document.documentElement.dataset.theme === "dark",
  next() {
    this.dark = !this.dark;
    document.documentElement.dataset.theme = this.dark ? "dark" : "light";
    localStorage.setItem("nailer-theme", document.documentElement.dataset.theme);
  },
  get word() {
    return this.dark ? "Dark" : "Light";
  },
  get label() {
    return this.dark ? "Dark theme; switch to light" : "Light theme; switch to dark";
  },
});
