import adding from "../components/sites/adding.js";
import importing from "../components/sites/importing.js";
import siteform from "../components/sites/siteform.js";
import sites from "../components/sites/sites.js";
import trial from "../components/sites/trial.js";
import connectionlog from "../components/sites/connectionlog.js";
import { begin } from "../main.js";

begin({ adding, importing, siteform, sites, trial, connectionlog });
