// What a site's form does wherever it stands: the port follows the protocol, plain FTP is warned of, a key file is read.
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

function warn(form) {
  form.querySelector("[data-plain-warning]").hidden = form.elements.protocol.value !== "ftp";
}
