import accessone from "../components/files/accessone.js";
import accesspage from "../components/files/accesspage.js";
import accesspanel from "../components/files/accesspanel.js";
import ledger from "../components/files/ledger.js";
import pathbar from "../components/files/pathbar.js";
import search from "../components/files/search.js";
import sieves from "../components/files/sieves.js";
import tree from "../components/files/tree.js";
import { begin } from "../main.js";

begin({ accessone, accesspage, accesspanel, ledger, pathbar, search, sieves, tree });
