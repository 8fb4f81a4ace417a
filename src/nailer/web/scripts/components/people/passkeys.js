// Makes a passkey of this browser, or proves with one who is there (WebAuthn).
import { json, Refused } from "../../lib/ask.js";

const NO_NAME = "Passkeys do not work with an IP address. Open Nailer by its host name over HTTPS, or as localhost.";

function words(error) {
  if (error instanceof Refused) return error.message;
  if (error.name === "SecurityError") return NO_NAME;
  if (error.name === "InvalidStateError") return "This device already has a passkey for your account.";
  return "The passkey was not used: cancelled or timed out. Try again.";
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
