// A decision on two changes of one text: the pieces, and what was chosen for each that is in conflict.
export function mergedText({ pieces, choices, theirs }) {
  let at = 0;
  return (
    theirs ??
    pieces
      .map((one) => {
        if (one.settled) return one.text;
        const choice = choices[at];
        at += 1;
        return choice === "both" ? one.mine + one.theirs : one[choice];
      })
      .join("")
  );
}
