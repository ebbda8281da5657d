// The drawings of the room: drag a thing or move it with the keys. While it moves, the server is asked what would
// follow, and its answer is put in place; dropped, its new place is sent and the server redraws. Zoom is by viewBox.
/* global htmx */
const STEP_M = 0.01;
const SEND_AFTER_MS = 450;
let held = null;                 // what the pointer drags
let asking = false, wanted = null;
let keyTimer = null;
let view = null;                 // zoomed viewBox of the plan from above: [x, y, width, height]

export function startPlans(token) {
  document.addEventListener("pointerdown", (event) => {
    const plan = event.target.closest?.("[data-plan]");
    if (!plan || event.button) return;
    const thing = event.target.closest(".thing[data-thing]");
    const start = at(plan, event);
    if (!thing) {
      if (view && plan.dataset.plan === "xy") held = { plan, pan: true, start, moved: false };
      return;
    }
    held = { thing, plan, start, from: metres(thing), moved: false, at: [event.clientX, event.clientY] };
    thing.setPointerCapture?.(event.pointerId);
  });
  document.addEventListener("pointermove", (event) => {
    if (!held) return;
    const now = at(held.plan, event);
    if (held.pan) {
      view = [view[0] - now.x + held.start.x, view[1] - now.y + held.start.y, view[2], view[3]];
      applyZoom();
      return;
    }
    if (!held.moved && Math.hypot(event.clientX - held.at[0], event.clientY - held.at[1]) < 3) return;
    if (!held.moved) { held.moved = true; leaveGhost(held.thing.dataset.thing); }
    const scale = Number(held.plan.dataset.scale);
    const [dx, dy] = [(now.x - held.start.x) / scale, (now.y - held.start.y) / scale];
    const { x, y, z } = held.from;
    put(held.thing.dataset.thing, held.plan.dataset.plan === "xy" ? { x: x + dx, y: y + dy, z } : { x, y: y + dx, z: z - dy });
    ask(held.plan, held.thing.dataset.thing, token);
  });
  document.addEventListener("pointerup", () => {
    if (!held) return;
    const { thing, plan, moved, pan } = held;
    held = null;
    if (pan) return;
    if (moved) send(plan, thing.dataset.thing);
    else pick(plan, thing.dataset.thing);
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape" && held?.thing) {
      put(held.thing.dataset.thing, held.from);
      held = null;
      clearGhosts();
      return;
    }
    const thing = event.target.closest?.("[data-plan] .thing[data-thing]");
    if (!thing) return;
    const plan = thing.closest("[data-plan]");
    if (event.key === "Enter" || event.key === " ") { event.preventDefault(); pick(plan, thing.dataset.thing); return; }
    const step = { ArrowLeft: [-1, 0, 0], ArrowRight: [1, 0, 0], ArrowUp: [0, -1, 0], ArrowDown: [0, 1, 0],
      PageUp: [0, 0, 1], PageDown: [0, 0, -1] }[event.key];
    if (!step) return;
    event.preventDefault();
    if (keyTimer === null) leaveGhost(thing.dataset.thing);
    const by = STEP_M * (event.shiftKey ? 10 : 1), here = metres(thing);
    put(thing.dataset.thing, { x: here.x + step[0] * by, y: here.y + step[1] * by, z: here.z + step[2] * by });
    ask(plan, thing.dataset.thing, token);
    clearTimeout(keyTimer);
    keyTimer = setTimeout(() => { keyTimer = null; send(plan, thing.dataset.thing); }, SEND_AFTER_MS);
  });
  document.addEventListener("click", (event) => {
    const way = event.target.closest?.("[data-zoom]")?.dataset.zoom;
    if (way) zoom({ in: 0.7, out: 1 / 0.7, whole: 0 }[way]);
  });
  document.addEventListener("wheel", (event) => {
    const plan = event.target.closest?.("[data-plan=xy]");
    if (!plan || !(event.ctrlKey || event.metaKey)) return;
    event.preventDefault();
    zoom(event.deltaY < 0 ? 0.85 : 1 / 0.85, at(plan, event));
  }, { passive: false });
  document.addEventListener("htmx:after:swap", applyZoom);
}

function at(plan, event) {
  const point = new DOMPoint(event.clientX, event.clientY).matrixTransform(plan.getScreenCTM().inverse());
  return { x: point.x, y: point.y };
}
function metres(thing) {
  return { x: Number(thing.dataset.x), y: Number(thing.dataset.y), z: Number(thing.dataset.z) };
}
function nodes(key) {
  return document.querySelectorAll(`[data-plan] .thing[data-thing="${CSS.escape(key)}"]`);
}
function onPaper(plan, { x, y, z }) {
  const { scale, left, top, ceiling } = plan.dataset;
  return plan.dataset.plan === "xy" ? [Number(left) + x * scale, Number(top) + y * scale]
    : [Number(left) + y * scale, Number(top) + (ceiling - z) * scale];
}
// Boxes are drawn where they stand and shifted from there; everything else is drawn around its own middle.
function put(key, place) {
  for (const node of nodes(key)) {
    const plan = node.closest("[data-plan]"), [px, py] = onPaper(plan, place);
    let [x, y] = [px, py];
    if (node.classList.contains("box")) {
      node.drawn ??= onPaper(plan, metres(node));
      [x, y] = [px - node.drawn[0], py - node.drawn[1]];
    }
    node.setAttribute("transform", `translate(${x.toFixed(2)} ${y.toFixed(2)})`);
    Object.assign(node.dataset, { x: place.x.toFixed(4), y: place.y.toFixed(4), z: place.z.toFixed(4) });
  }
}
function leaveGhost(key) {
  clearGhosts();
  for (const plan of document.querySelectorAll("[data-plan]")) plan.classList.add("dragging");
  for (const node of nodes(key)) {
    const ghost = node.cloneNode(true);
    ghost.classList.remove("thing", "picked");
    ghost.classList.add("ghost", "ghost-now");
    for (const name of ["data-thing", "tabindex", "role", "aria-label"]) ghost.removeAttribute(name);
    node.parentNode.insertBefore(ghost, node);
  }
}
function clearGhosts() {
  for (const plan of document.querySelectorAll("[data-plan]")) plan.classList.remove("dragging");
  for (const ghost of document.querySelectorAll(".ghost-now")) ghost.remove();
}

// One question at a time; while it is under way, only the latest next one is kept.
async function ask(plan, key, token) {
  wanted = { url: plan.dataset.whatIf, sheet: plan.dataset.sheet, key };
  if (asking) return;
  asking = true;
  try {
    while (wanted) {
      const { url, sheet, key: thing } = wanted;
      const here = metres(nodes(thing)[0]);
      wanted = null;
      const body = new URLSearchParams({ thing, sheet, dragged: "1", x: here.x.toFixed(4), y: here.y.toFixed(4), z: here.z.toFixed(4) });
      const answer = await fetch(url, { method: "POST", body, headers: { "X-CSRFToken": token, "HX-Request": "true" } });
      if (answer.ok && (held || keyTimer !== null)) show(await answer.text(), thing);
    }
  } finally { asking = false; }
}
function show(text, key) {
  const parts = new DOMParser().parseFromString(text, "text/html");
  for (const part of parts.querySelectorAll("[data-live]")) document.getElementById(part.id)?.replaceWith(document.adoptNode(part));
  const moved = parts.querySelector("[data-moved]");
  if (moved) for (const [other, [x, y, z]] of Object.entries(JSON.parse(moved.textContent))) if (other !== key) put(other, { x, y, z });
  document.documentElement.dataset.followed = String(1 + Number(document.documentElement.dataset.followed ?? 0));
}

function send(plan, key) {
  const { x, y, z } = nodes(key)[0].dataset;
  wanted = null;
  htmx.ajax("POST", plan.dataset.move + encodeURIComponent(key), {
    target: "#stop", swap: "outerMorph", values: { dragged: "1", seen: plan.dataset.seen, sheet: plan.dataset.sheet, pick: key, x, y, z },
  })?.then?.(() => focus(key));
}
function pick(plan, key) {
  const url = `${plan.dataset.page}?${new URLSearchParams({ sheet: plan.dataset.sheet, pick: key })}`;
  htmx.ajax("GET", url, { target: "#stop", swap: "outerMorph" })?.then?.(() => { history.replaceState(history.state, "", url); focus(key); });
}
function focus(key) {
  document.querySelector(`[data-plan=xy] [data-thing="${CSS.escape(key)}"]`)?.focus({ preventScroll: true });
}

function zoom(by, about) {
  const plan = document.querySelector("[data-plan=xy]");
  if (!plan) return;
  const whole = plan.dataset.whole?.split(" ").map(Number) ?? plan.getAttribute("viewBox").split(" ").map(Number);
  plan.dataset.whole = whole.join(" ");
  if (!by) { view = null; applyZoom(); return; }
  const [x, y, w, h] = view ?? whole;
  const width = Math.min(whole[2], Math.max(whole[2] / 8, w * by)), height = (width * whole[3]) / whole[2];
  const chosen = document.querySelector("[data-plan=xy] .thing.picked:not(.box)")?.transform.baseVal.consolidate()?.matrix;
  const c = about ?? (chosen && !view ? { x: chosen.e, y: chosen.f } : { x: x + w / 2, y: y + h / 2 });
  view = width >= whole[2] ? null : [c.x - ((c.x - x) / w) * width, c.y - ((c.y - y) / h) * height, width, height];
  applyZoom();
}
function applyZoom() {
  const plan = document.querySelector("[data-plan=xy]");
  if (!plan) { view = null; return; }
  if (view) {
    plan.dataset.whole ??= plan.getAttribute("viewBox");
    plan.setAttribute("viewBox", view.map((v) => v.toFixed(1)).join(" "));
  } else if (plan.dataset.whole) plan.setAttribute("viewBox", plan.dataset.whole);
  plan.classList.toggle("zoomed", Boolean(view));
}
