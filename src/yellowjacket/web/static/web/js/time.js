// The map of outstanding pixels: drawn on a canvas, zoomed by wheel, keys and buttons, moved by dragging.
import { state } from "./stave.js";

const MOST_ZOOM = 40;
const MOST_SHAPES = 3000;
let shown = null;

export function startTime() {
  if (!document.querySelector("[data-map]")) return;
  load();
  document.addEventListener("htmx:afterSwap", (event) => { if (event.target.id === "map") load(); });
  document.addEventListener("click", (event) => {
    const zoom = event.target.closest("[data-zoom]");
    const named = event.target.closest("[data-show-point]");
    if (zoom && shown) zoomBy(Number(zoom.dataset.zoom));
    if (named && shown) goToPoint(...named.dataset.showPoint.split(",").map(Number));
  });
  document.addEventListener("keydown", (event) => {
    if (!shown || event.target.matches?.("input, textarea, select")) return;
    if (event.key === "+" || event.key === "=") zoomBy(2);
    if (event.key === "-") zoomBy(0.5);
  });
  window.addEventListener("resize", () => shown && fit());
}

async function load() {
  const canvas = document.querySelector("[data-canvas]");
  shown = null;
  if (!canvas) return;
  const url = new URL(document.querySelector("[data-map]").dataset.points, window.location.href);
  for (const [key, value] of state()) url.searchParams.set(key, value);
  url.searchParams.set("rung", canvas.dataset.rung);
  const answer = await fetch(url);
  if (!answer.ok || !canvas.isConnected) return;
  const points = await answer.json();
  shown = { canvas, points, scale: 1, left: 0, top: 0, glow: glowOf(points.surface) };
  fit();
  listen(canvas);
}

function glowOf(surface) {
  if (!surface.rows) return null;
  const picture = document.createElement("canvas");
  [picture.width, picture.height] = [surface.columns, surface.rows];
  const data = new ImageData(surface.columns, surface.rows);
  surface.values.forEach((value, n) => {
    const grey = 16 + Math.round(value * 0.32);
    data.data.set([grey, grey, grey, 255], 4 * n);
  });
  picture.getContext("2d").putImageData(data, 0, 0);
  return picture;
}

function fit() {
  const { canvas, points } = shown;
  const ratio = window.devicePixelRatio || 1;
  canvas.style.aspectRatio = `${points.width} / ${points.height}`;
  canvas.width = Math.round(canvas.clientWidth * ratio);
  canvas.height = Math.round(canvas.clientWidth * ratio * points.height / points.width);
  shown.least = canvas.width / points.width;
  Object.assign(shown, { scale: shown.least, left: 0, top: 0 });
  draw();
}

function draw() {
  const { canvas, points, scale, left, top, glow } = shown;
  const pen = canvas.getContext("2d");
  const ratio = window.devicePixelRatio || 1;
  pen.imageSmoothingEnabled = true;
  pen.fillStyle = "#101010";
  pen.fillRect(0, 0, canvas.width, canvas.height);
  if (glow) pen.drawImage(glow, -left * scale, -top * scale, points.width * scale, points.height * scale);
  const size = Math.max(1.6 * ratio, scale);
  const right = left + canvas.width / scale;
  const bottom = top + canvas.height / scale;
  const inside = [];
  for (let n = 0; n < points.x.length; n += 1) {
    const x = points.x[n];
    const y = points.y[n];
    if (x >= left - 1 && x <= right && y >= top - 1 && y <= bottom) inside.push(n);
  }
  if (inside.length > MOST_SHAPES) return drawDots(pen, inside, Math.round(size));
  pen.fillStyle = pen.strokeStyle = "#fff";
  pen.lineWidth = Math.max(1, ratio);
  for (const n of inside) {
    const [x, y] = [(points.x[n] + 0.5 - left) * scale, (points.y[n] + 0.5 - top) * scale];
    mark(pen, points.kinds[points.kind[n]], x, y, size, points.over[n]);
  }
  return undefined;
}

// So many points that shapes would not be told apart: plain dots, written as numbers, which is many times faster.
function drawDots(pen, inside, side) {
  const { canvas, points, scale, left, top } = shown;
  shown.layer ??= document.createElement("canvas");
  const { layer } = shown;
  if (layer.width !== canvas.width || layer.height !== canvas.height) {
    [layer.width, layer.height] = [canvas.width, canvas.height];
  }
  const data = new ImageData(layer.width, layer.height);
  const numbers = new Uint32Array(data.data.buffer);
  for (const n of inside) {
    const x = Math.floor((points.x[n] + 0.5 - left) * scale);
    const y = Math.floor((points.y[n] + 0.5 - top) * scale);
    for (let j = Math.max(y, 0); j < y + side && j < layer.height; j += 1) {
      for (let i = Math.max(x, 0); i < x + side && i < layer.width; i += 1) numbers[j * layer.width + i] = 0xffffffff;
    }
  }
  layer.getContext("2d").putImageData(data, 0, 0);
  pen.drawImage(layer, 0, 0);
}

// Shape first: hot is a filled square that grows with its excess, the others are outlines of their own.
function mark(pen, kind, x, y, size, over) {
  if (kind === "hot") {
    const side = size * (over > 200 ? 2 : over > 40 ? 1.5 : 1);
    pen.fillRect(x - side / 2, y - side / 2, side, side);
    return;
  }
  const r = Math.max(size / 2, 3);
  pen.beginPath();
  if (kind === "warm") pen.rect(x - size / 2, y - size / 2, size / 2, size / 2);
  else if (kind === "stuck") { pen.moveTo(x - r, y - r); pen.lineTo(x + r, y + r); pen.moveTo(x + r, y - r); pen.lineTo(x - r, y + r); }
  else if (kind === "dead") pen.rect(x - r, y - r, 2 * r, 2 * r);
  else if (kind === "blinking") { pen.moveTo(x, y - r * 1.4); pen.lineTo(x + r * 1.4, y + r); pen.lineTo(x - r * 1.4, y + r); pen.closePath(); }
  else pen.arc(x, y, r, 0, 2 * Math.PI);
  pen.stroke();
}

function zoomBy(factor, at = null) {
  const { canvas, least } = shown;
  if (!factor) return fit();
  const [px, py] = at ?? [canvas.width / 2, canvas.height / 2];
  const [x, y] = [shown.left + px / shown.scale, shown.top + py / shown.scale];
  shown.scale = Math.min(Math.max(shown.scale * factor, least), MOST_ZOOM);
  return place(x - px / shown.scale, y - py / shown.scale);
}

function place(left, top) {
  const { canvas, points, scale } = shown;
  shown.left = Math.min(Math.max(left, 0), points.width - canvas.width / scale);
  shown.top = Math.min(Math.max(top, 0), points.height - canvas.height / scale);
  window.requestAnimationFrame(draw);
}

function goToPoint(x, y) {
  const { canvas } = shown;
  shown.scale = Math.max(shown.scale, 12);
  place(x - canvas.width / shown.scale / 2, y - canvas.height / shown.scale / 2);
  showPoint(x, y);
}

async function showPoint(x, y) {
  const url = new URL(document.querySelector("[data-map]").dataset.point, window.location.href);
  for (const [key, value] of state()) url.searchParams.set(key, value);
  url.searchParams.set("rung", shown.canvas.dataset.rung);
  url.searchParams.set("x", x);
  url.searchParams.set("y", y);
  window.htmx.ajax("GET", url.pathname + url.search, { target: "#point", swap: "innerHTML" });
}

function placeOf(canvas, event) {
  const box = canvas.getBoundingClientRect();
  const ratio = canvas.width / box.width;
  return [(event.clientX - box.left) * ratio, (event.clientY - box.top) * ratio];
}

function listen(canvas) {
  canvas.addEventListener("wheel", (event) => {
    event.preventDefault();
    zoomBy(event.deltaY < 0 ? 1.3 : 1 / 1.3, placeOf(canvas, event));
  }, { passive: false });
  canvas.addEventListener("pointerdown", (down) => {
    canvas.setPointerCapture(down.pointerId);
    const begin = placeOf(canvas, down);
    const from = [shown.left, shown.top];
    let moved = false;
    const move = (event) => {
      const [x, y] = placeOf(canvas, event);
      moved ||= Math.hypot(x - begin[0], y - begin[1]) > 4;
      place(from[0] - (x - begin[0]) / shown.scale, from[1] - (y - begin[1]) / shown.scale);
    };
    const up = () => {
      canvas.removeEventListener("pointermove", move);
      canvas.removeEventListener("pointerup", up);
      if (!moved) choose(begin);
    };
    canvas.addEventListener("pointermove", move);
    canvas.addEventListener("pointerup", up);
  });
  canvas.addEventListener("keydown", (event) => {
    const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (!by || shown.scale <= shown.least) return;
    event.preventDefault();
    event.stopPropagation();
    const step = canvas.width / shown.scale / 8;
    place(shown.left + by[0] * step, shown.top + by[1] * step);
  });
}

// The point nearest to the click, within a few pixels of the screen.
function choose([px, py]) {
  const { points, scale, left, top } = shown;
  const [x, y] = [left + px / scale, top + py / scale];
  let best = -1;
  let least = (12 / scale) ** 2;
  for (let n = 0; n < points.x.length; n += 1) {
    const apart = (points.x[n] + 0.5 - x) ** 2 + (points.y[n] + 0.5 - y) ** 2;
    if (apart < least) [best, least] = [n, apart];
  }
  if (best >= 0) showPoint(points.x[best], points.y[best]);
}
