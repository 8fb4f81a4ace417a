// Takes one change back; true where it went well.
import { json } from "./ask.js";
import { complain, notice } from "./notice.js";
export async function takeBack(button, siteId) {
  button.disabled = true;
  try {
    const answer = await json(`/sites/${siteId}/changes/${button.dataset.takeBack}/take-back`, { body: {} });
    if (!answer.job) notice("Taken back.");
    return true;
  } catch (error) {
    button.disabled = false;
    complain(error);
    return false;
  }
}
