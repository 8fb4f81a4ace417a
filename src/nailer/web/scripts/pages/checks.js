import apart from "../components/checks/apart.js";
import broken from "../components/checks/broken.js";
import checks from "../components/checks/checks.js";
import page from "../components/checks/page.js";
import picture from "../components/checks/picture.js";
import room from "../components/checks/room.js";
import { begin } from "../main.js";

begin({ apart, broken, checks, page, picture, room });
