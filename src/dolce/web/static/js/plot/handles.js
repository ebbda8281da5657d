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
  drawPoints(svg, data, place, { x, y, width });
  for (const band of data.handles ?? []) {
    const head = svg.append("g").attr("class", `handle${band.fixed ? " fixed" : ""}${band.off ? " off" : ""}${band.locked ? " locked" : ""}`).attr("tabindex", 0).attr("role", "slider")
      .attr("data-handle", band.id).attr("aria-label", `Band ${band.label}`).attr("aria-valuenow", band.y)
      .attr("aria-valuetext", `${band.x} Hz, ${band.y} dB, Q ${band.q}`);
    head.attr("transform", `translate(${x(band.x)} ${y(band.y)})`);
    head.append("ellipse").attr("rx", band.fixed ? 5 : 8).attr("ry", band.fixed ? 4 : 6).attr("transform", "rotate(-18)");
    head.append("text").attr("y", 3.5).attr("text-anchor", "middle").text(band.label);
    if (!band.locked) moves(head, figure, data, band, place, { x, y, width, svg });
  }
}

// Points of a drawn target: the line is pressed for a new one, a point is dragged, moved by keys, and goes with Delete.
function drawPoints(svg, data, place, { x, y, width }) {
  if (!data.points?.length) return;
  const spot = (event) => {
    const box = svg.node().getBoundingClientRect(), scale = width / box.width;
    return [Math.min(Math.max(x.invert((event.clientX - box.left) * scale), 10), 22000), y.invert((event.clientY - box.top) * scale)];
  };
  const send = (values) => htmx.ajax("POST", `${place.dataset.points}`, { target: "#stop", swap: "outerMorph", values: { channel: "", ...values } });
  const line = data.curves.find((c) => c.state === "target");
  svg.append("path").attr("class", "target-hit").attr("d", path(line, data, x, y)).on("pointerdown", (event) => event.stopPropagation()).on("click", (event) => {
    const [at, level] = spot(event);
    const near = data.points.reduce((a, b) => (Math.abs(Math.log(a.x / at)) < Math.abs(Math.log(b.x / at)) ? a : b));
    send({ frequency_hz: at, level_db: level - near.above });
  });
  for (const point of data.points) {
    const now = { at: point.x, level: point.y };
    const mark = svg.append("g").attr("class", "target-point").attr("tabindex", 0).attr("role", "slider").attr("aria-label", `Target point ${point.number + 1}`)
      .attr("aria-valuenow", point.y).attr("aria-valuetext", `${Math.round(point.x)} Hz, ${point.y.toFixed(1)} dB`);
    const put = () => mark.attr("transform", `translate(${x(now.at)} ${y(now.level)})`);
    const keep = () => send({ frequency_hz: now.at, level_db: now.level - point.above, number: point.number });
    mark.append("circle").attr("class", "grip").attr("r", 11);
    mark.append("path").attr("d", "M-6 -6 L6 -6 M0 -6 L0 6");
    put();
    let held = false;
    mark.on("pointerdown", (event) => { held = true; event.stopPropagation(); mark.node().setPointerCapture(event.pointerId); })
      .on("pointermove", (event) => { if (held) { event.stopPropagation(); [now.at, now.level] = spot(event); put(); } })
      .on("pointerup", (event) => { if (held) { held = false; event.stopPropagation(); keep(); } })
      .on("keydown", (event) => {
        if (event.key === "Delete" || event.key === "Backspace") {
          event.preventDefault();
          htmx.ajax("POST", `${place.dataset.points}/${point.number}/remove`, { target: "#stop", swap: "outerMorph", values: { channel: "" } });
          return;
        }
        const step = KEYS[event.key];
        if (!step) return;
        event.preventDefault();
        event.stopPropagation();
        if (step[0] === "gain_db") now.level += step[1]; else now.at *= step[1];
        keep();
      });
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
    now.frequency_hz = band.fixed ? band.x : Math.min(Math.max(x.invert((event.clientX - box.left) * scale), 10), 20000);
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
