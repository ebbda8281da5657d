// Draws finished points: something over frequency or over time. Point or use the arrow keys to read off; drag across to
// zoom, double-click or Home to go back. The vertical scale never changes by itself.
import { drawHandles } from "./handles.js";
import { drawMap } from "./map_plot.js";
const d3 = globalThis.d3;
const MARGIN = { top: 10, right: 20, bottom: 26, left: 46 };
const STRIP = 26;
const MAJOR = [20, 30, 50, 100, 200, 300, 500, 1000, 2000, 3000, 5000, 10000, 20000];
const rights = new Map();                      // where plots end, by figure: one that lies under another ends there too
const zooms = new Map();                       // by place of the plot: a swap keeps the zoom

export function drawWaitingPlots() {
  for (const figure of document.querySelectorAll("[data-plot]")) {
    const text = figure.querySelector("script").textContent;
    if (figure.dataset.plotState === "drawn" && figure.drawnText === text && figure.querySelector("svg").childElementCount) continue;
    figure.drawnText = text;
    const data = JSON.parse(text);
    if (data.kind === "map") drawMap(figure, data);
    else draw(figure, data);
    figure.dataset.plotState = "drawn";
  }
}

function hertz(f) { return f >= 1000 ? `${+(f / 1000).toFixed(f < 9950 ? 2 : 1)} kHz` : `${+f.toFixed(f < 100 ? 1 : 0)} Hz`; }
function tickText(f) { return f >= 1000 ? `${f / 1000}k` : `${f}`; }

function draw(figure, data) {
  const svg = d3.select(figure).select("svg");
  const key = (data.under ?? figure.id) + location.pathname;
  const width = Math.max(200, figure.clientWidth);
  const height = Number(figure.dataset.height) || 400;
  const strip = data.strip?.length ? STRIP : 0;
  const bottom = height - MARGIN.bottom - strip;
  const log = data.kind === "frequency-response";
  const range = zooms.get(key) ?? data.xRange;
  svg.attr("viewBox", `0 0 ${width} ${height}`).attr("height", height).selectAll("*").remove();
  const xs = (curve) => curve.x ?? data.x;
  const ends = endsOf(svg, data, xs, range);
  const right = (data.under && rights.get(data.under)) ?? width - roomBeside(ends, width, range, log);
  rights.set(figure.id, right);
  const x = (log ? d3.scaleLog() : d3.scaleLinear()).domain(range).range([MARGIN.left, right]);
  const y = d3.scaleLinear().domain(data.yRange).range([bottom, MARGIN.top]);
  const clip = `clip-${figure.id}`;
  svg.append("clipPath").attr("id", clip).append("rect").attr("x", MARGIN.left).attr("y", MARGIN.top)
    .attr("width", right - MARGIN.left).attr("height", bottom - MARGIN.top);

  const ticks = log ? (range[1] / range[0] > 12 ? MAJOR.filter((f) => f >= range[0] && f <= range[1]) : x.ticks(8)) : x.ticks(10);
  let lastText = -100;
  for (const f of ticks) {
    svg.append("path").attr("class", "grid").attr("d", `M${x(f)} ${MARGIN.top}V${bottom}`);
    if (x(f) - lastText < 22) continue;                       // its number would run into the one before
    lastText = x(f);
    svg.append("text").attr("class", "tick").attr("x", x(f)).attr("y", height - 8).attr("text-anchor", "middle").text(log ? tickText(+f.toPrecision(3)) : `${String(f).replace("-", "−")} ms`);
  }
  for (const v of levelTicks(data, bottom)) {
    svg.append("path").attr("class", "grid").attr("d", `M${MARGIN.left} ${y(v)}H${right}`);
    svg.append("text").attr("class", "tick").attr("x", MARGIN.left - 6).attr("y", y(v) + 4).attr("text-anchor", "end")
      .text((v > 0 && data.unit === "dB" ? "+" : "") + String(v).replace("-", "−"));
  }
  svg.append("text").attr("class", "tick").attr("x", MARGIN.left + 4).attr("y", MARGIN.top + 10).text(data.unit);

  const body = svg.append("g").attr("clip-path", `url(#${clip})`);
  for (const ribbon of data.ribbons ?? []) {
    const own = xs(ribbon);
    body.append("path").attr("class", `ribbon ch-${ribbon.channel}`)
      .attr("d", d3.area().x((_, i) => x(own[i])).y0((_, i) => y(ribbon.low[i])).y1((_, i) => y(ribbon.high[i]))(own));
  }
  for (const curve of data.curves) {
    const own = xs(curve);
    const line = d3.line().x((_, i) => x(own[i])).y((v) => y(v))
      .defined((v, i) => v !== null && (!data.breaks || i === 0 || Math.abs(v - curve.y[i - 1]) < data.breaks));
    body.append("path").attr("class", `trace ${curve.state} ch-${curve.channel}`).attr("d", line(curve.y)).datum(curve);
    if (curve.points) curve.y.forEach((v, i) => {
      if (v !== null) body.append("circle").attr("class", `point ${curve.hollow?.[i] ? "hollow" : ""} ch-${curve.channel}`).attr("r", 3.5).attr("cx", x(own[i])).attr("cy", y(v));
    });
  }
  for (const mark of data.marks ?? []) {
    body.append("path").attr("class", "mark").attr("d", `M${x(mark.x)} ${bottom}v-14`);
    body.append("text").attr("class", "mark-text").attr("x", x(mark.x)).attr("y", bottom - 18).text(mark.label);
  }
  for (const part of data.strip ?? []) {
    const from = Math.max(x(part.from), MARGIN.left), to = Math.min(x(part.to), right);
    if (to <= from) continue;
    svg.append("rect").attr("class", `strip-part ${part.outside ? "outside" : part.verdict.replace(" ", "-")}${part.overruled ? " overruled" : ""}`)
      .attr("data-at", part.outside ? null : part.at)
      .attr("x", from + 0.5).attr("y", bottom + 5).attr("width", Math.max(1, to - from - 1)).attr("height", 18).attr("rx", 3);
    if (to - from > 7 * part.label.length) svg.append("text").attr("class", "strip-text").attr("x", (from + to) / 2).attr("y", bottom + 18).text(part.label);
  }
  placeLabels(svg, ends, x, y, bottom);
  drawHandles(svg, figure, data, { x, y, width });
  readOff(figure, svg, data, x, y, xs, bottom, width, key);
}

// Labels stand at the end of their curves: beside the plot where a curve runs to its edge, behind the end of one that
// stops before. Neighbours move apart, and a piece of the curve's own line leads from its end to its label.
const LEAD = 24, LINE = 14;

// What is labelled, with the width of its text and the place where its curve ends.
function endsOf(svg, data, xs, range) {
  return data.curves.filter((c) => c.state !== "spot" && !c.quiet).map((curve) => {
    const own = xs(curve);
    let i = Math.min(own.length, d3.bisector((d) => d).right(own, range[1])) - 1;
    while (i > 0 && curve.y[i] === null) i -= 1;
    const text = svg.append("text").attr("class", `end-label ${curve.state} ch-${curve.channel}`).text(curve.label);
    return { curve, text, wide: text.node().getComputedTextLength() || 7 * curve.label.length, last: own[Math.max(i, 0)], value: curve.y[Math.max(i, 0)] };
  });
}

function roomBeside(ends, width, range, log) {
  const share = log ? (at) => Math.log(at / range[0]) / Math.log(range[1] / range[0]) : (at) => (at - range[0]) / (range[1] - range[0]);
  const beside = ends.filter((end) => { end.beside = share(end.last) > 0.88; return end.beside; });
  return beside.length ? Math.min(0.4 * width, LEAD + 8 + d3.max(beside, (end) => end.wide)) : MARGIN.right;
}

function placeLabels(svg, ends, x, y, bottom) {
  const right = x.range()[1];
  for (const group of d3.group(ends, (end) => end.beside ? right : Math.round(x(end.last) / 60)).values()) {
    const column = group.filter((end) => end.value !== null).map((end) => ({ ...end, from: Math.min(bottom, Math.max(MARGIN.top, y(end.value))) }))
      .sort((a, b) => a.from - b.from);
    const gap = Math.min(LINE, (bottom - MARGIN.top) / column.length);
    let at = -1e9;
    for (const end of column) { at = end.at = Math.max(end.from, at + gap); }
    at = bottom + 2;
    for (const end of column.toReversed()) { at = end.at = Math.min(end.at, at); at -= gap; }
    for (const { curve, text, last, beside, from, at } of column) {
      const start = beside ? right : x(last);
      text.attr("x", start + LEAD + 4).attr("y", at + 4).raise();
      svg.append("path").attr("class", `trace label-line ${curve.state} ch-${curve.channel}`).attr("d", `M${start} ${from}L${start + 8} ${at}H${start + LEAD}`);
    }
  }
}

// Numbers at the scale: as many as there is room for.
function levelTicks(data, bottom) {
  const [low, high] = data.yRange, room = Math.max(4, Math.floor(bottom / 34));
  const steps = data.unit.startsWith("dB") ? [5, 10, 20, 50] : data.unit === "°" ? [90, 180, 360, 720, 1800, 3600, 7200, 36000] : data.unit === "%" ? [50, 100] : null;
  if (!steps) return d3.ticks(low, high, Math.min(room, 7));
  const step = steps.find((s) => (high - low) / s <= room) ?? steps.at(-1);
  return d3.range(Math.ceil(low / step) * step, high + step / 1000, step);
}

const inside = (own, at) => at >= own[0] * 0.99 && at <= own.at(-1) * 1.01 || own[0] < 0;

function readOff(figure, svg, data, x, y, xs, bottom, width, key) {
  const out = figure.querySelector(".readout");
  const cursor = svg.append("path").attr("class", "cursor");
  const box = svg.append("rect").attr("class", "zoom-box").attr("y", MARGIN.top).attr("height", bottom - MARGIN.top).attr("width", 0);
  const first = xs(data.curves[0]);
  let index = null, from = null, pointed = null;
  // Of single filters the nearest to the pointer stands out.
  const pointAt = (px, py) => {
    const at = x.invert(px), near = (c) => Math.abs(y(c.y[d3.bisector((d) => d).center(xs(c), at)]) - py);
    pointed = d3.least(data.curves.filter((c) => c.single), near) ?? null;
    if (pointed) svg.selectAll(".trace.single").classed("pointed", (c) => c === pointed);
  };
  const show = (i) => {
    index = Math.max(0, Math.min(first.length - 1, i));
    const at = first[index];
    cursor.attr("d", `M${x(at)} ${MARGIN.top}V${bottom}`);
    const parts = data.curves.filter((c) => c.state !== "spot" && (!c.single || c === pointed) && inside(xs(c), at)).slice(0, 8).map((c) => {
      const j = d3.bisector((d) => d).center(xs(c), at);
      return c.y[j] === null ? `${c.label} not known` : `${c.label} ${c.y[j].toFixed(data.unit === "s" ? 2 : 1).replace("-", "−")} ${data.unit}`;
    });
    const band = (data.strip ?? []).find((s) => at >= s.from && at <= s.to);
    out.textContent = `${data.kind === "impulse" ? `${at.toFixed(2)} ms` : hertz(at)}: ${parts.join(", ")}${band ? `, ${band.label}` : ""}`;
  };
  const redraw = () => {
    const top = data.under ?? figure.id;
    for (const other of document.querySelectorAll("[data-plot]")) {
      const shown = JSON.parse(other.querySelector("script").textContent);
      if (other.id === top || shown.under === top) draw(other, shown);
    }
  };
  const place = (event) => { const box = svg.node().getBoundingClientRect(); return (event.clientX - box.left) * (width / box.width); };
  svg.on("pointermove", (event) => {
    const px = place(event), bounds = svg.node().getBoundingClientRect();
    pointAt(px, (event.clientY - bounds.top) * (width / bounds.width));
    show(d3.bisector((d) => d).center(first, x.invert(px)));
    if (from !== null) box.attr("x", Math.min(from, px)).attr("width", Math.abs(px - from));
  }).on("pointerdown", (event) => { if (event.target.closest(".handle, .strip-part")) return; from = place(event); svg.node().setPointerCapture(event.pointerId); })
    .on("pointerup", (event) => {
      const px = place(event), start = from;
      from = null;
      box.attr("width", 0);
      if (start !== null && Math.abs(px - start) > 24) {
        const limits = [x.invert(Math.max(MARGIN.left, Math.min(start, px))), x.invert(Math.min(x.range()[1], Math.max(start, px)))];
        zooms.set(key, limits);
        redraw();
      }
    })
    .on("dblclick", () => { zooms.delete(key); redraw(); })
    .on("keydown", (event) => {
      const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
      if (step) { event.preventDefault(); show((index ?? Math.floor(first.length / 2)) + step * (event.shiftKey ? 12 : 1)); }
      if (event.key === "Home") { zooms.delete(key); redraw(); }
      if ((event.key === "+" || event.key === "-") && index !== null) {
        const at = first[index], [a, b] = x.domain(), k = event.key === "+" ? 0.5 : 2;
        const [lo, hi] = data.xRange;
        const next = data.kind === "impulse" ? [Math.max(lo, at - (at - a) * k), Math.min(hi, at + (b - at) * k)]
          : [Math.max(lo, at * (a / at) ** k), Math.min(hi, at * (b / at) ** k)];
        zooms.set(key, next);
        redraw();
      }
    });
}
