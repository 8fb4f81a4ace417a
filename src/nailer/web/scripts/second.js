// The page of the second proof: before it was given nothing else of Nailer's runs.
import Alpine from "@alpinejs/csp";
import passkeys from "./components/people/passkeys.js";

Alpine.data("passkeys", passkeys);
Alpine.start();
document.documentElement.dataset.alive = "";
