// Saves a plot as it is seen: the drawing with the styles that it has on the page, as SVG or as PNG.
const STYLES = ["fill", "fill-opacity", "stroke", "stroke-width", "stroke-dasharray", "stroke-linecap", "stroke-linejoin", "stroke-opacity", "opacity", "font-family", "font-size", "font-weight", "text-anchor", "paint-order"];

export function startSaving() {
  document.addEventListener("click", (event) => {
    const kind = event.target.closest?.("[data-save-plot]")?.dataset.savePlot;
    if (!kind) return;
    const shown = [...document.querySelectorAll("figure.plot svg")].filter((svg) => svg.childElementCount);
    const svg = shown.length > 1 ? together(shown) : standingAlone(shown[0]);
    const name = document.querySelector("h2")?.firstChild.textContent.trim() || "plot";
    const text = new XMLSerializer().serializeToString(svg);
    if (kind === "svg") save(new Blob([text], { type: "image/svg+xml" }), `${name}.svg`);
    else asPicture(svg, text).then((blob) => save(blob, `${name}.png`));
  });
}

// Several plots as they stand on the page, each under its heading.
function together(shown) {
  const boxes = shown.map((svg) => svg.getBoundingClientRect());
  const left = Math.min(...boxes.map((box) => box.left)), top = Math.min(...boxes.map((box) => box.top)) - 26;
  const width = Math.max(...boxes.map((box) => box.right)) - left, height = Math.max(...boxes.map((box) => box.bottom)) - top;
  const all = document.createElementNS("http://www.w3.org/2000/svg", "svg");
  all.setAttribute("viewBox", `0 0 ${width} ${height}`);
  all.setAttribute("width", width);
  shown.forEach((svg, k) => {
    const part = standingAlone(svg), heading = svg.closest("figure").previousElementSibling;
    part.setAttribute("x", boxes[k].left - left);
    part.setAttribute("y", boxes[k].top - top);
    part.setAttribute("height", boxes[k].height);
    all.append(part);
    if (!heading?.matches("h3")) return;
    const text = document.createElementNS("http://www.w3.org/2000/svg", "text"), style = getComputedStyle(heading);
    text.setAttribute("x", boxes[k].left - left);
    text.setAttribute("y", boxes[k].top - top - 8);
    for (const name of ["font-family", "font-size", "font-weight"]) text.setAttribute(name, style.getPropertyValue(name));
    text.setAttribute("fill", style.color);
    text.textContent = heading.textContent;
    all.append(text);
  });
  return onPaper(all);
}

function standingAlone(svg) {
  const copy = svg.cloneNode(true), box = svg.viewBox.baseVal;
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", box.width);
  const own = [svg, ...svg.querySelectorAll("*")];
  [copy, ...copy.querySelectorAll("*")].forEach((node, k) => {
    const style = getComputedStyle(own[k]);
    for (const name of STYLES) node.setAttribute(name, style.getPropertyValue(name));
    node.removeAttribute("class");
  });
  return onPaper(copy);
}

function onPaper(svg) {
  const box = svg.viewBox.baseVal;
  const paper = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  paper.setAttribute("width", box.width);
  paper.setAttribute("height", box.height);
  paper.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--dolce-surface"));
  svg.prepend(paper);
  return svg;
}

async function asPicture(svg, text) {
  const picture = new Image(), canvas = document.createElement("canvas"), box = svg.viewBox.baseVal;
  picture.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(text)}`;
  await picture.decode();
  canvas.width = 2 * box.width;
  canvas.height = 2 * box.height;
  canvas.getContext("2d").drawImage(picture, 0, 0, canvas.width, canvas.height);
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}

function save(blob, name) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(blob);
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
