// The plan: drag a thing or move it with the arrow keys, then send its new place. The server redraws.
/* global htmx */
const STEP_M = 0.01;

export function startPlans() {
  let held = null;

  document.addEventListener("pointerdown", (event) => {
    const thing = event.target.closest?.("[data-plan] .thing");
    if (!thing) return;
    const plan = thing.closest("[data-plan]");
    held = { thing, plan, start: at(plan, event), from: place(thing), moved: false };
    thing.setPointerCapture(event.pointerId);
    thing.classList.add("dragging");
  });
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    const now = at(held.plan, event);
    held.moved = true;
    put(held.thing, held.from.x + now.x - held.start.x, held.from.y + now.y - held.start.y);
  });
  document.addEventListener("pointerup", () => {
    if (!held) return;
    const { thing, plan, moved } = held;
    thing.classList.remove("dragging");
    held = null;
    if (moved) send(plan, thing);
  });
  let waiting = null;
  document.addEventListener("keydown", (event) => {
    const thing = event.target.closest?.("[data-plan] .thing");
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!thing || !step) return;
    event.preventDefault();
    const plan = thing.closest("[data-plan]");
    const by = STEP_M * (event.shiftKey ? 10 : 1) * Number(plan.dataset.scale);
    const from = place(thing);
    put(thing, from.x + step[0] * by, from.y + step[1] * by);
    clearTimeout(waiting);
    waiting = setTimeout(() => send(plan, thing), 250);
  });
}

function at(plan, event) {
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(plan.getScreenCTM().inverse());
  return { x: point.x, y: point.y };
}
function place(thing) {
  const { e, f } = thing.transform.baseVal.consolidate().matrix;
  return { x: e, y: f };
}
function put(thing, x, y) {
  thing.setAttribute("transform", `translate(${x.toFixed(2)} ${y.toFixed(2)})`);
}
function send(plan, thing) {
  const { x, y } = place(thing);
  const scale = Number(plan.dataset.scale);
  const values = {
    dragged: "1", z: thing.dataset.z,
    x: ((x - Number(plan.dataset.left)) / scale).toFixed(3), y: ((y - Number(plan.dataset.top)) / scale).toFixed(3),
  };
  const again = thing.dataset.thing;
  htmx.ajax("POST", thing.dataset.move, { target: "#stop", swap: "outerMorph", values })
    ?.then?.(() => document.querySelector(`[data-thing="${again}"]`)?.focus({ preventScroll: true }));
}
