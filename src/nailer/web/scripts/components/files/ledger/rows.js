// How rows are measured and made. Their height is the style sheet's: on a phone a row has two lines.
export const rowPx = () => parseInt(getComputedStyle(document.documentElement).getPropertyValue("--row"), 10) || 33;
export const BLOCK = 100;

const shownColumns = () =>
  [...document.querySelectorAll(".ledger thead th")].filter((one) => one.offsetWidth).length || 1;

export function gap(rows) {
  const row = document.createElement("tr");
  row.className = "gap";
  row.setAttribute("aria-hidden", "true");
  const cell = document.createElement("td");
  // A cell over more columns than are shown would add one, which takes its share of the width.
  cell.colSpan = shownColumns();
  cell.style.height = `${rows * rowPx()}px`;
  row.append(cell);
  row.hidden = rows === 0;
  return row;
}

export function fitGaps(rows) {
  for (const cell of rows.querySelectorAll("tr.gap td")) cell.colSpan = shownColumns();
}

export function rowsOf(text) {
  const holder = document.createElement("template");
  holder.innerHTML = `<table><tbody>${text}</tbody></table>`;
  return [...holder.content.querySelectorAll("tr[data-name]")];
}
