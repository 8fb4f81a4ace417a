// How many names of a site are not sent yet, at its Sync tab; it follows what is saved and carried at once.
import { subscribe } from "../../lib/events.js";
import { grouped } from "../../lib/number.js";
export default () => ({
  init() {
    const place = this.$root;
    this.close = subscribe(({ unsent }) => {
      const count = unsent[place.dataset.site] || 0;
      place.textContent = grouped(count);
      place.hidden = !count;
    });
  },
  destroy() {
    this.close();
  },
});
