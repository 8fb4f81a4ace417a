// Makes a passkey of this browser, or proves with one who is there (WebAuthn).
import { json, Refused } from "../../lib/ask.js";

const NO_NAME = "Passkeys need a name: open Nailer over HTTPS, or as localhost, instead of by a number.";

function words(error) {
  if (error instanceof Refused) return error.message;
  if (error.name === "SecurityError") return NO_NAME;
  if (error.name === "InvalidStateError") return "This device has a passkey of yours already.";
  return "The browser did not use a passkey. Try once more.";
}

export default () => ({
  problem: "",
  make() {
    return this.go(async () => {
      const asked = await json(this.$root.dataset.wanted, { body: {} });
      const publicKey = PublicKeyCredential.parseCreationOptionsFromJSON(asked);
      const made = await navigator.credentials.create({ publicKey });
      const name = this.$refs.name.value;
      await json(this.$root.dataset.add, { body: { credential: made.toJSON(), name } });
      location.reload();
    });
  },
  prove() {
    return this.go(async () => {
      const asked = await json(this.$root.dataset.asked, { body: {} });
      const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(asked);
      const given = await navigator.credentials.get({ publicKey });
      await json(this.$root.dataset.prove, { body: { credential: given.toJSON() } });
      location.replace("/");
    });
  },
  async go(act) {
    this.problem = "";
    if (!window.PublicKeyCredential) {
      this.problem = NO_NAME;
      return;
    }
    try {
      await act();
    } catch (error) {
      this.problem = words(error);
    }
  },
});
