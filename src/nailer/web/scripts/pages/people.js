import passkeys from "../components/people/passkeys.js";
import { begin } from "../main.js";

begin({ passkeys });
