import draftstate from "../components/editing/draftstate.js";
import ownfiles from "../components/editing/ownfiles.js";
import { begin } from "../main.js";

const own = { draftstate, ownfiles };
// The editor is large: only its own page fetches it.
if (document.querySelector('[x-data="editor"]')) own.editor = (await import("../components/editing/editor.js")).default;
begin(own);
