// Draws a finished map of level over time and frequency: the darker, the louder. Point to read off.
const d3 = globalThis.d3;
const MARGIN = { top: 10, right: 20, bottom: 26, left: 46 };
const MAJOR = [20, 30, 50, 100, 200, 300, 500, 1000, 2000, 3000, 5000, 10000, 20000];

export function drawMap(figure, data) {
  const svg = d3.select(figure).select("svg");
  const width = Math.max(200, figure.clientWidth), height = Number(figure.dataset.height) || 400;
  const bottom = height - MARGIN.bottom, right = width - MARGIN.right;
  const x = d3.scaleLog().domain([data.x[0], data.x.at(-1)]).range([MARGIN.left, right]);
  const y = d3.scaleLinear().domain([data.t[0], data.t.at(-1)]).range([bottom, MARGIN.top]);
  svg.attr("viewBox", `0 0 ${width} ${height}`).attr("height", height).selectAll("*").remove();
  svg.append("image").attr("x", MARGIN.left).attr("y", MARGIN.top).attr("width", right - MARGIN.left)
    .attr("height", bottom - MARGIN.top).attr("preserveAspectRatio", "none").attr("href", picture(figure, data));
  for (const f of MAJOR.filter((f) => f >= data.x[0] && f <= data.x.at(-1))) {
    svg.append("path").attr("class", "grid over-map").attr("d", `M${x(f)} ${MARGIN.top}V${bottom}`);
    svg.append("text").attr("class", "tick").attr("x", x(f)).attr("y", height - 8).attr("text-anchor", "middle").text(f >= 1000 ? `${f / 1000}k` : f);
  }
  for (const t of y.ticks(7)) {
    svg.append("path").attr("class", "grid over-map").attr("d", `M${MARGIN.left} ${y(t)}H${right}`);
    svg.append("text").attr("class", "tick").attr("x", MARGIN.left - 6).attr("y", y(t) + 4).attr("text-anchor", "end").text(t);
  }
  svg.append("text").attr("class", "tick").attr("x", MARGIN.left + 4).attr("y", MARGIN.top + 12).text("ms");
  // Lines of equal level, each labelled, so that colour is not all there is to read by.
  const flat = data.level.flat();
  const lines = d3.contours().size([data.x.length, data.t.length]).thresholds([-40, -30, -20, -10]);
  const place = d3.geoTransform({ point(px, py) { this.stream.point(MARGIN.left + (px - 0.5) / (data.x.length - 1) * (right - MARGIN.left), bottom - (py - 0.5) / (data.t.length - 1) * (bottom - MARGIN.top)); } });
  const clip = `clip-${figure.id}`;
  svg.append("clipPath").attr("id", clip).append("rect").attr("x", MARGIN.left).attr("y", MARGIN.top)
    .attr("width", right - MARGIN.left).attr("height", bottom - MARGIN.top);
  const body = svg.append("g").attr("clip-path", `url(#${clip})`);
  for (const line of lines(flat)) body.append("path").attr("class", `contour contour${line.value}`).attr("d", d3.geoPath(place)(line));
  const out = figure.querySelector(".readout"), cursor = svg.append("path").attr("class", "cursor");
  svg.on("pointermove", (event) => {
    const box = svg.node().getBoundingClientRect();
    const i = d3.bisector((d) => d).center(data.x, x.invert((event.clientX - box.left) * width / box.width));
    const k = d3.bisector((d) => d).center(data.t, y.invert((event.clientY - box.top) * height / box.height));
    cursor.attr("d", `M${x(data.x[i])} ${MARGIN.top}V${bottom}M${MARGIN.left} ${y(data.t[k])}H${right}`);
    out.textContent = `${data.x[i] >= 1000 ? `${(data.x[i] / 1000).toFixed(2)} kHz` : `${data.x[i].toFixed(0)} Hz`}, ${data.t[k].toFixed(0)} ms: ${data.label} ${String(data.level[k][i]).replace("-", "−")} dB${data.level[k][i] <= data.lowest ? " or less" : ""}`;
  });
}

// One point of a canvas for each value, from the paper's colour to the ink's.
function picture(figure, data) {
  const canvas = document.createElement("canvas");
  canvas.width = data.x.length;
  canvas.height = data.t.length;
  const style = getComputedStyle(figure);
  const shade = d3.interpolateLab(style.getPropertyValue("--dolce-surface"), style.getPropertyValue("--dolce-plum"));
  const shades = d3.range(0, 1.0001, 1 / -data.lowest).map((part) => d3.rgb(shade(part ** 1.3)));
  const context = canvas.getContext("2d"), image = context.createImageData(canvas.width, canvas.height);
  data.level.forEach((row, k) => row.forEach((level, i) => {
    const colour = shades[level - data.lowest], at = 4 * ((canvas.height - 1 - k) * canvas.width + i);
    image.data.set([colour.r, colour.g, colour.b, 255], at);
  }));
  context.putImageData(image, 0, 0);
  return canvas.toDataURL();
}
