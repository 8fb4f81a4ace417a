// Says something in the corner of the page; `look` is "" or "bad".
export function notice(text, { look = "", href = "", link = "" } = {}) {
  dispatchEvent(new CustomEvent("nailer:notice", { detail: { text, look, href, link } }));
}

export function complain(error) {
  if (error.name === "AbortError") return;
  const words = error.answer?.server_words ? ` Its answer: ${error.answer.server_words}` : "";
  notice(error.message + words, { look: "bad" });
}
