// Requests to Nailer: they carry the page's token, and failures come back as one kind of error with words for a person.
const token = () => document.querySelector('meta[name="csrf"]').content;

export class Refused extends Error {
  constructor(answer, status) {
    super(answer.what || "Nailer is not responding.");
    this.answer = answer;
    this.status = status;
  }
}

async function failure(response) {
  const body = await response.json().catch(() => ({ what: `Nailer answered ${response.status}.` }));
  if (response.status === 401) location.reload();
  return new Refused(body, response.status);
}

async function send(url, options) {
  let response;
  try {
    response = await fetch(url, options);
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Refused({ what: "Nailer is not responding. Check that it is running." }, 0);
  }
  return response;
}

export async function html(url, { body, signal } = {}) {
  const options = { headers: { Accept: "application/json, text/plain" }, signal };
  if (body !== undefined) {
    options.method = "POST";
    options.body = JSON.stringify(body);
    Object.assign(options.headers, { "Content-Type": "application/json", "X-CSRF": token() });
  }
  const response = await send(url, options);
  if (!response.ok) throw await failure(response);
  return response.text();
}

export async function json(url, { body, method, signal, headers } = {}) {
  const options = {
    method: method || (body === undefined ? "GET" : "POST"),
    headers: { Accept: "application/json", "X-CSRF": token(), ...headers },
    signal,
  };
  if (body !== undefined) {
    options.body = JSON.stringify(body);
    options.headers["Content-Type"] = "application/json";
  }
  const response = await send(url, options);
  if (!response.ok) throw await failure(response);
  return response.json();
}

// A file's bytes as they are; a fetch cannot report how much has gone, the job's own progress does.
export async function put(url, file) {
  const response = await send(url, {
    method: "PUT",
    body: file,
    headers: { Accept: "application/json", "X-CSRF": token(), "Content-Type": "application/octet-stream" },
  });
  if (!response.ok) throw await failure(response);
  return response.json();
}

// How much of a large file Nailer has already, in bytes.
export async function come(url) {
  const response = await send(url, { method: "HEAD", headers: { Accept: "application/json" } });
  if (!response.ok) throw new Error("Nailer is no longer waiting for this file. Drop it again.");
  return Number(response.headers.get("Upload-Offset"));
}

// A part of a large file, from `at` on.
export async function patch(url, part, at, isLast) {
  const headers = {
    Accept: "application/json",
    "X-CSRF": token(),
    "Content-Type": "application/partial-upload",
    "Upload-Offset": String(at),
    "Upload-Complete": isLast ? "?1" : "?0",
  };
  const response = await send(url, { method: "PATCH", body: part, headers });
  if (!response.ok) throw await failure(response);
  return response.json();
}
