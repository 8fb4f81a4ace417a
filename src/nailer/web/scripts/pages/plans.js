import changes from "../components/plans/changes.js";
import jobs from "../components/plans/jobs.js";
import { begin } from "../main.js";

begin({ changes, jobs });
