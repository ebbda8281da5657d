// The card of a cell, and recordings dropped on a cell: they go through the upload form of its card, several into the imported files.
/* global htmx */
export async function openCell(cell) {
  const cut = cell.dataset.cell.lastIndexOf("-"), [channel, spot] = [cell.dataset.cell.slice(0, cut), cell.dataset.cell.slice(cut + 1)];
  for (const other of document.querySelectorAll(".cell.open")) other.classList.remove("open");
  cell.classList.add("open");
  await htmx.ajax("GET", `${cell.closest("[data-takes]").dataset.takes}${encodeURIComponent(channel)}/${spot}/cell`, { target: "#cell-card", swap: "innerHTML" });
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
    const filesForm = document.querySelector("#imported-files-form");
    if (files.length > 1 && filesForm) {
      filesForm.querySelector("input[type=file]").files = files;
      filesForm.requestSubmit();
      return;
    }
    if (!files.length || !cell.querySelector(".cell-open")) return;
    await openCell(cell);
    const form = document.querySelector("#cell-card form.upload");
    if (!form) return;
    form.querySelector("input[type=file]").files = files;
    form.requestSubmit();
  });
}
