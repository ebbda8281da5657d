// A recording dropped on a cell of the board goes through that cell's own upload form.
export function startDrops() {
  const cellOf = (event) => event.target.closest?.("[data-drop]");
  document.addEventListener("dragover", (event) => {
    const cell = cellOf(event);
    if (!cell) return;
    event.preventDefault();
    for (const other of document.querySelectorAll(".drop-here")) other.classList.remove("drop-here");
    cell.classList.add("drop-here");
  });
  document.addEventListener("dragleave", (event) => cellOf(event)?.classList.remove("drop-here"));
  document.addEventListener("drop", (event) => {
    const cell = cellOf(event);
    if (!cell) return;
    event.preventDefault();
    cell.classList.remove("drop-here");
    const form = cell.querySelector("form.upload");
    if (!form || !event.dataTransfer.files.length) return;
    form.querySelector("input[type=file]").files = event.dataTransfer.files;
    form.requestSubmit();
  });
}
