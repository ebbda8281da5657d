// Before the page is painted: the colours chosen last. Kept in this browser only.
document.documentElement.dataset.theme = localStorage.getItem("dolce-theme") === "evening" ? "evening" : "light";
