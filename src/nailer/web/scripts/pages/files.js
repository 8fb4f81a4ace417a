import permissionsone from "../components/files/permissionsone.js";
import permissionspage from "../components/files/permissionspage.js";
import permissionspanel from "../components/files/permissionspanel.js";
import ledger from "../components/files/ledger.js";
import pathbar from "../components/files/pathbar.js";
import search from "../components/files/search.js";
import sieves from "../components/files/sieves.js";
import tree from "../components/files/tree.js";
import { begin } from "../main.js";

begin({ permissionsone, permissionspage, permissionspanel, ledger, pathbar, search, sieves, tree });
