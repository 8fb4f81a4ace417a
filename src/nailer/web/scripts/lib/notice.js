// Says something in the corner of the page; `look` is "" or "bad".
// With `back`, a job's number, it offers to take that job back.
export function notice(text, { look = "", href = "", link = "", back = 0 } = {}) {
  dispatchEvent(new CustomEvent("nailer:notice", { detail: { text, look, href, link, back } }));
}

export function complain(error) {
  if (error.name === "AbortError") return;
  const words = error.answer?.server_words ? ` Its answer: ${error.answer.server_words}` : "";
  notice(error.message + words, { look: "bad" });
}
