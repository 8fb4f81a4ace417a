// The settings of a stored site.
import { protocolChanged, ready } from "../../lib/siteform.js";
export default () => ({
  init() {
    ready(this.$root);
  },
  changed(event) {
    if (event.target.name === "protocol") protocolChanged(this.$root);
  },
});
