// Bands as note-heads on a plot: dragged, turned by wheel, moved by keys. Where they go is forwarded; the server answers with
// the curves, and nothing is kept before the hand lets go.
/* global htmx */
const KEYS = { ArrowLeft: ["frequency_hz", 2 ** (-1 / 24)], ArrowRight: ["frequency_hz", 2 ** (1 / 24)], ArrowUp: ["gain_db", 0.5], ArrowDown: ["gain_db", -0.5] };
const SHIFTED = { ArrowUp: ["q", 1.1], ArrowDown: ["q", 1 / 1.1] };

export function drawHandles(svg, figure, data, { x, y, width }) {
  const place = figure.closest("[data-shape-plot]");
  if (!place) return;
  svg.attr("role", "group");
  svg.selectAll(".strip-part[data-at]").attr("role", "button").attr("tabindex", 0)
    .attr("aria-label", function () { return `Evidence at ${Math.round(this.dataset.at)} Hz`; })
    .on("click", (event) => press(place, event.target.dataset.at))
    .on("keydown", (event) => { if (event.key === "Enter" || event.key === " ") { event.preventDefault(); press(place, event.target.dataset.at); } });
  for (const band of data.handles ?? []) {
    const head = svg.append("g").attr("class", `handle${band.off ? " off" : ""}${band.locked ? " locked" : ""}`).attr("tabindex", 0).attr("role", "slider")
      .attr("data-handle", band.id).attr("aria-label", `Band ${band.label}`).attr("aria-valuenow", band.y)
      .attr("aria-valuetext", `${band.x} Hz, ${band.y} dB, Q ${band.q}`);
    head.attr("transform", `translate(${x(band.x)} ${y(band.y)})`);
    head.append("ellipse").attr("rx", 8).attr("ry", 6).attr("transform", "rotate(-18)");
    head.append("text").attr("y", 3.5).attr("text-anchor", "middle").text(band.label);
    if (!band.locked) moves(head, figure, data, band, place, { x, y, width, svg });
  }
}

function press(place, at) { htmx.ajax("GET", `${place.dataset.press}&at=${at}`, { target: "#stop", swap: "outerMorph" }); }

function moves(head, figure, data, band, place, { x, y, width, svg }) {
  const now = { frequency_hz: band.x, gain_db: band.y, q: band.q };
  const form = () => ({ moved: "1", ...now, channel: "" });
  const keep = () => htmx.ajax("POST", `${place.dataset.bands}${band.id}`, { target: "#shape-card", swap: "outerMorph", values: form() });
  let asking = false, again = false;
  // One question at a time: the latest place is asked for when the answer to the one before is there.
  const ask = async () => {
    if (asking) { again = true; return; }
    asking = true;
    const body = new URLSearchParams(form());
    const answer = await fetch(`${place.dataset.bands}${band.id}/preview`, { method: "POST", body, headers: { "X-CSRFToken": document.querySelector('meta[name="csrf-token"]').content } });
    asking = false;
    if (answer.ok) {
      const found = await answer.json();
      const line = (state) => found.plot.curves.find((c) => c.state === state);
      svg.selectAll(".trace.predicted").attr("d", path(line("predicted"), data, x, y));
      for (const key of ["deviation", "headroom"]) document.querySelector(`[data-value="${key}"]`).textContent = found[key];
      figure.dataset.previews = Number(figure.dataset.previews ?? 0) + 1;
    }
    if (again) { again = false; ask(); }
  };
  const at = (event) => {
    const box = svg.node().getBoundingClientRect(), scale = width / box.width;
    now.frequency_hz = Math.min(Math.max(x.invert((event.clientX - box.left) * scale), 10), 20000);
    now.gain_db = Math.min(Math.max(y.invert((event.clientY - box.top) * scale), -30), 15);
    head.attr("transform", `translate(${x(now.frequency_hz)} ${y(now.gain_db)})`);
    ask();
  };
  let held = false, wheel = null;
  head.on("pointerdown", (event) => { held = true; event.stopPropagation(); head.node().setPointerCapture(event.pointerId); })
    .on("pointermove", (event) => { if (held) { event.stopPropagation(); at(event); } })
    .on("pointerup", (event) => { if (held) { held = false; event.stopPropagation(); keep(); } })
    .on("wheel", (event) => {
      event.preventDefault();
      now.q = Math.min(Math.max(now.q * (event.deltaY < 0 ? 1.1 : 1 / 1.1), 0.1), 50);
      ask();
      clearTimeout(wheel);
      wheel = setTimeout(keep, 500);
    })
    .on("keydown", (event) => {
      const step = (event.shiftKey ? SHIFTED : KEYS)[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      now[step[0]] = step[0] === "gain_db" ? now.gain_db + step[1] : now[step[0]] * step[1];
      keep();
    });
}

function path(curve, data, x, y) {
  return curve ? globalThis.d3.line().x((_, i) => x(data.x[i])).y((v) => y(v))(curve.y) : "";
}
