// The report is printed by the browser: paper and page numbers are said by its style.
document.querySelector("[data-print]")?.addEventListener("click", () => window.print());
