// Wires the page: draws waiting plots, forwards keys, drags and drops. Nothing is computed here.
/* global htmx */
import { drawWaitingPlots } from "./plot/response_plot.js";
import { startPlans } from "./plan.js";
import { openCell, startDrops } from "./drop.js";
import { startSaving } from "./save_plot.js";
import { startListening } from "./listen.js";

const token = document.querySelector('meta[name="csrf-token"]')?.content;

document.addEventListener("htmx:config:request", (event) => {
  event.detail.ctx.request.headers["X-CSRFToken"] = token;
});

// The switch names what pressing it brings.
function nameThemeSwitch() {
  const evening = document.documentElement.dataset.theme === "evening";
  for (const button of document.querySelectorAll("[data-theme-switch]")) button.textContent = evening ? "Day colours" : "Evening colours";
}

function ready() {
  nameThemeSwitch();
  drawWaitingPlots();
}

// A cell's card is asked for when the cell is pressed; arrow keys go from cell to cell.
document.addEventListener("click", (event) => {
  const open = event.target.closest?.(".cell-open");
  if (open) openCell(open.closest("[data-cell]"));
  if (event.target.closest?.("[data-close-cell]")) document.querySelector("#cell-card").replaceChildren();
});
document.addEventListener("keydown", (event) => {
  const step = { ArrowRight: [0, 1], ArrowLeft: [0, -1], ArrowDown: [1, 0], ArrowUp: [-1, 0] }[event.key];
  const cell = step && event.target.matches?.(".cell-open") && event.target.closest("td");
  if (!cell) return;
  event.preventDefault();
  const row = step[0] > 0 ? cell.parentNode.nextElementSibling : step[0] < 0 ? cell.parentNode.previousElementSibling : cell.parentNode;
  row?.cells[cell.cellIndex + step[1]]?.querySelector(".cell-open")?.focus();
});

document.addEventListener("htmx:after:swap", ready);

// A soft tone when the microphone has to move: only where the pass waits, so that it never sounds into a take.
let chimed = null;
document.addEventListener("htmx:after:swap", () => {
  const spot = document.querySelector("[data-chime-spot]")?.dataset.chimeSpot ?? null;
  if (chimed !== null && spot !== null && spot !== chimed && document.querySelector(".waiting")) {
    const audio = new AudioContext(), tone = audio.createOscillator(), level = audio.createGain();
    tone.frequency.value = 660;
    level.gain.setValueAtTime(0.08, audio.currentTime);
    level.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + 0.35);
    tone.connect(level).connect(audio.destination);
    tone.start();
    tone.stop(audio.currentTime + 0.4);
    tone.onended = () => audio.close();
  }
  chimed = spot;
});

// The page says whether it has settled: nothing under way and not about to leave.
let underWay = 0;
const settled = (change) => {
  underWay = Math.max(0, underWay + change);
  document.documentElement.dataset.ready = underWay ? "false" : "true";
};
document.addEventListener("htmx:before:request", () => settled(1));
document.addEventListener("htmx:finally:request", () => settled(-1));
document.addEventListener("submit", (event) => { if (!event.target.matches("[hx-post], [hx-get]")) settled(1); });
document.addEventListener("click", (event) => {
  if (event.target.closest("[data-dismiss]")) event.target.closest(".message").remove();
  if (event.target.closest("[data-theme-switch]")) {
    const theme = document.documentElement.dataset.theme === "evening" ? "light" : "evening";
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("dolce-theme", theme);
    nameThemeSwitch();
  }
});
// "This one sounded": a speaker pressed on the plan of the line check.
function answered(event) {
  const speaker = event.target.closest?.("[data-answer]");
  if (!speaker || (event.type === "keydown" && event.key !== "Enter" && event.key !== " ")) return;
  event.preventDefault();
  htmx.ajax("POST", speaker.dataset.answer, { target: "#stop", swap: "outerMorph" });
}
document.addEventListener("click", answered);
document.addEventListener("keydown", answered);
// A band follows as soon as a number in it has changed.
document.addEventListener("change", (event) => {
  if (event.target.matches("table.bands input, [data-send]")) event.target.form.requestSubmit();
});
// The list of keys; and what is next.
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.target.matches?.("input, textarea, select")) return;
  if (event.key === "?") document.querySelector("#keys")?.showModal();
  if (event.key.toLowerCase() === "n" && !document.querySelector("dialog[open]")) document.querySelector("#next [data-next]")?.click();
});
document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") {
    document.querySelector("#cell-card")?.replaceChildren();
    if (!event.repeat) document.querySelector("[data-stop-sound]")?.click();
  }
  const undo = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "z" && !event.target.matches("input, textarea");
  if (undo) {
    const button = document.querySelector(event.shiftKey ? '.undo form:last-child button' : '.undo form:first-child button');
    if (button && !button.disabled) { event.preventDefault(); button.click(); }
  }
});
// Groups of channels, and another scale: both change the form, which asks for itself.
document.addEventListener("click", (event) => {
  const wanted = event.target.closest?.("[data-choose]"), fit = event.target.closest?.("[data-fit-scale]");
  if (!wanted && !fit) return;
  const form = event.target.closest("form");
  if (wanted) for (const box of form.querySelectorAll("[name=channel]")) box.checked = wanted.dataset.choose.split(" ").includes(box.value);
  else form.querySelector("[data-scale]").value = "";
  form.dispatchEvent(new Event("change", { bubbles: true }));
});
startSaving();
startPlans(token);
startDrops(token);
startListening();
ready();
settled(0);
