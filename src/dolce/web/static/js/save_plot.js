// Saves a plot as it is seen: the drawing with the styles that it has on the page, as SVG or as PNG.
const STYLES = ["fill", "fill-opacity", "stroke", "stroke-width", "stroke-dasharray", "stroke-linecap", "stroke-linejoin", "stroke-opacity", "opacity", "font-family", "font-size", "font-weight", "text-anchor", "paint-order"];

export function startSaving() {
  document.addEventListener("click", (event) => {
    const kind = event.target.closest?.("[data-save-plot]")?.dataset.savePlot;
    if (!kind) return;
    const svg = document.querySelector("figure.plot svg");
    const text = standingAlone(svg), name = document.querySelector("h2")?.firstChild.textContent.trim() || "plot";
    if (kind === "svg") save(new Blob([text], { type: "image/svg+xml" }), `${name}.svg`);
    else asPicture(svg, text).then((blob) => save(blob, `${name}.png`));
  });
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
  const paper = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  paper.setAttribute("width", box.width);
  paper.setAttribute("height", box.height);
  paper.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--dolce-surface"));
  copy.prepend(paper);
  return new XMLSerializer().serializeToString(copy);
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
