// The settings of a stored site.
import { complain } from "../../lib/notice.js";
import { offerSignIn, protocolChanged, ready, takeApart } from "../../lib/siteform.js";
export default () => ({
  init() {
    ready(this.$root);
  },
  changed(event) {
    if (event.target.name === "protocol") protocolChanged(this.$root);
    if (event.target.name === "host") takeApart(this.$root).catch(complain);
    offerSignIn(this.$root);
  },
});
