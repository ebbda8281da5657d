// A recording dropped on a cell of the board goes through that cell's own upload form.
/* global htmx */
// What can be done with a cell, asked for once.
export async function loadChoices(cell) {
  const menu = cell.querySelector(".menu");
  if (!menu || menu.childElementCount) return;
  const cut = cell.dataset.cell.lastIndexOf("-"), [channel, spot] = [cell.dataset.cell.slice(0, cut), cell.dataset.cell.slice(cut + 1)];
  await htmx.ajax("GET", `${cell.closest("[data-takes]").dataset.takes}${encodeURIComponent(channel)}/${spot}/choices`, { target: menu, swap: "innerHTML" });
}
export function startDrops() {
  const cellOf = (event) => event.target.closest?.("[data-cell]");
  document.addEventListener("dragover", (event) => {
    const cell = cellOf(event);
    if (!cell) return;
    event.preventDefault();
    for (const other of document.querySelectorAll(".drop-here")) other.classList.remove("drop-here");
    cell.classList.add("drop-here");
  });
  document.addEventListener("dragleave", (event) => cellOf(event)?.classList.remove("drop-here"));
  document.addEventListener("drop", async (event) => {
    const cell = cellOf(event);
    if (!cell) return;
    event.preventDefault();
    cell.classList.remove("drop-here");
    const files = event.dataTransfer.files;
    if (!files.length || !cell.querySelector(".menu")) return;
    await loadChoices(cell);
    const form = cell.querySelector("form.upload");
    if (!form) return;
    form.querySelector("input[type=file]").files = files;
    form.requestSubmit();
  });
}
