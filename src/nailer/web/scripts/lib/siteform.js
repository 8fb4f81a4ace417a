// What a site's form does wherever it stands: the port follows the protocol, plain FTP is warned of, a key file is read.
import { json } from "./ask.js";

export const formOf = (element) => element.closest("[data-site-form]") || document.querySelector("[data-site-form]");

let before = null;

export function ready(form) {
  before = form.elements.protocol.value;
  warn(form);
  form.querySelector("[data-key-file]")?.addEventListener("change", async (event) => {
    const [file] = event.target.files;
    if (!file || file.size > 64 * 1024) return;
    form.elements.private_key.value = await file.text();
    event.target.value = "";
    why(form, "private_key", `read from ${file.name}`);
  });
}

export function protocolChanged(form) {
  const { protocol, port } = form.elements;
  const usual = (value) => [...protocol.options].find((one) => one.value === value)?.dataset.port;
  if (!port.value || port.value === usual(before)) port.value = usual(protocol.value);
  before = protocol.value;
  warn(form);
}

export function set(form, changes) {
  for (const [name, value] of Object.entries(changes)) {
    const input = form.elements[name];
    if (!input) continue;
    if (input.type === "checkbox") input.checked = value === "yes";
    else input.value = value;
    if (name === "protocol") before = value;
  }
  warn(form);
}

export function why(form, name, text, look = "") {
  const place = form.querySelector(`[data-why="${name}"]`);
  if (place) place.textContent = text;
  const input = form.elements[name];
  if (input?.classList) {
    input.classList.remove("was-read", "was-guessed");
    if (look) input.classList.add(look);
  }
}

// A stored sign-in for the same server and user is offered: nothing needs to be typed again.
export function offerSignIn(form) {
  const { host, user_name: user, credential_id: shared } = form.elements;
  const place = form.querySelector("[data-same-sign-in]");
  if (!place) return;
  const same =
    shared &&
    host.value &&
    [...shared.options].find((one) => one.dataset.host === host.value.trim() && one.dataset.user === user.value.trim());
  place.hidden = !same || shared.value === same.value;
  if (place.hidden) return;
  place.querySelector("span").textContent = `${same.dataset.label} already signs in as this user on this server.`;
  place.querySelector("button").onclick = () => {
    shared.value = same.value;
    place.hidden = true;
    why(form, "password", "not needed: the shared sign-in details are used");
  };
}

// A whole address in the server's field is taken apart.
export async function takeApart(form) {
  const text = form.elements.host.value.trim();
  if (!/[/@]/.test(text)) return;
  const { accounts } = await json("/sites/letter", { body: { text } });
  const { fields } = accounts[0];
  for (const name of ["host", "protocol", "port", "user_name", "password", "start_there"]) {
    if (!fields[name] || (fields[name].guessed && form.elements[name].value)) continue;
    set(form, { [name]: fields[name].value });
    why(form, name, "from the address");
  }
}

function warn(form) {
  form.querySelector("[data-plain-warning]").hidden = form.elements.protocol.value !== "ftp";
}
