import jobs from "../components/plans/jobs.js";
import sync from "../components/pairs/sync.js";
import syncrun from "../components/pairs/syncrun.js";
import timers from "../components/pairs/timers.js";
import { begin } from "../main.js";

begin({ jobs, sync, syncrun, timers });
