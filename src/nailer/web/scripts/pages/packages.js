import copies from "../components/packages/copies.js";
import packages from "../components/packages/packages.js";
import verifiedcopy from "../components/packages/verifiedcopy.js";
import recovery from "../components/packages/recovery.js";
import replacement from "../components/packages/replacement.js";
import version from "../components/packages/version.js";
import { begin } from "../main.js";

begin({ copies, packages, verifiedcopy, recovery, replacement, version });
