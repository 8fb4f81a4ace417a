// A word that must be typed first: the button looks ready once it is whole. The server asks for it in any case.
export function watchTypedWord() {
  document.addEventListener("input", ({ target }) => {
    if (target.matches("[data-word]")) target.classList.toggle("whole", target.value.trim() === target.dataset.word);
  });
}
