import connecting from "../components/shell/connecting.js";
import trial from "../components/sites/trial.js";
import { begin } from "../main.js";

begin({ connecting, trial });
