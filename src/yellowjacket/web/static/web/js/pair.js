// Two pictures against each other: blink, wipe, difference, side by side; verdicts by key.
import { fitToDevice, moveCells } from "./cells.js";
import { clickOn, inTextField, setState } from "./stave.js";

const MODES = ["blink", "wipe", "difference", "side by side"];
const STEP_PX = 64;
let timer = null;

const stage = () => document.querySelector("[data-stage]");
const shots = () => [...stage().querySelectorAll(".pair-shot")];
const still = () => window.matchMedia("(prefers-reduced-motion: reduce)").matches;

export function startPair() {
  if (!document.querySelector("[data-pair]")) return;
  document.addEventListener("keydown", onKey);
  if (!stage()) return;
  fitToDevice();
  const ratio = window.devicePixelRatio || 1;
  const [w, h] = stage().dataset.size.split(",").map((part) => Number(part) / ratio);
  stage().style.setProperty("--stage-w", `${w}px`);
  stage().style.setProperty("--stage-h", `${h}px`);
  document.querySelector("[data-speed]").addEventListener("input", (event) => {
    document.querySelector("[data-speed-said]").textContent = `${event.target.value} s`;
    if (timer) run();
  });
  document.querySelector("[data-amplify]").addEventListener("change", subtract);
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-mode]:is(button)");
    if (button) setMode(button.dataset.mode);
  });
  stage().addEventListener("pointermove", wipe);
  stage().addEventListener("pointerdown", drag);
  for (const image of stage().querySelectorAll("img")) image.addEventListener("load", () => { if (mode() === "difference") subtract(); });
  setMode(mode());
}

const mode = () => stage().dataset.mode;

function setMode(name) {
  stage().dataset.mode = name;
  setState({ mode: name });
  for (const button of document.querySelectorAll("button[data-mode]")) {
    button.classList.toggle("in-force", button.dataset.mode === name);
    button.setAttribute("aria-pressed", String(button.dataset.mode === name));
  }
  for (const item of document.querySelectorAll("[data-for]")) item.hidden = item.dataset.for !== name;
  show(0);
  shots()[1].style.clipPath = name === "wipe" ? "inset(0 0 0 50%)" : "";
  stop();
  // Both are there and decoded before the first change, so that nothing flickers.
  if (name === "blink" && !still()) Promise.all([...stage().querySelectorAll("img")].map((image) => image.decode())).then(run, () => {});
  if (name === "difference") subtract();
}

function show(which) {
  shots().forEach((shot, n) => shot.classList.toggle("front", n === which));
  document.querySelectorAll("[data-name]").forEach((label, n) => label.classList.toggle("front", mode() !== "blink" || n === which));
}

const other = () => show(shots()[0].classList.contains("front") ? 1 : 0);

function run() {
  stop();
  timer = window.setInterval(other, 1000 * Number(document.querySelector("[data-speed]").value));
}

function stop() {
  if (timer) window.clearInterval(timer);
  timer = null;
}

function wipe(event) {
  if (mode() !== "wipe") return;
  const bounds = stage().getBoundingClientRect();
  const share = Math.min(Math.max((event.clientX - bounds.left) / bounds.width, 0), 1);
  shots()[1].style.clipPath = `inset(0 0 0 ${(100 * share).toFixed(1)}%)`;
}

async function subtract() {
  const images = [...stage().querySelectorAll("img")];
  try {
    await Promise.all(images.map((image) => image.decode()));
  } catch { return; }
  const canvas = stage().querySelector("canvas");
  const [w, h] = [Math.min(...images.map((i) => i.naturalWidth)), Math.min(...images.map((i) => i.naturalHeight))];
  canvas.width = w;
  canvas.height = h;
  canvas.style.width = `${images[0].width}px`;
  const pen = canvas.getContext("2d", { willReadFrequently: true });
  const [one, two] = images.map((image) => {
    pen.drawImage(image, 0, 0);
    return pen.getImageData(0, 0, w, h);
  });
  const by = Number(document.querySelector("[data-amplify]").value);
  for (let n = 0; n < one.data.length; n += 1) {
    one.data[n] = n % 4 === 3 ? 255 : 127.5 + (by * (one.data[n] - two.data[n])) / 2;
  }
  pen.putImageData(one, 0, 0);
}

function lookAt(spot) {
  const within = spot.map((value) => Math.max(0, Math.round(value)));
  stage().dataset.spot = within.join(",");
  setState({ spot: within.join(",") });
  moveCells(within, stage());
}

function drag(start) {
  if (mode() === "wipe") return;
  const [x, y] = stage().dataset.spot.split(",").map(Number);
  const image = stage().querySelector("img");
  const cut = Number(image.src.match(/crop\/\d+,\d+,(\d+)/)[1]);
  const scale = cut / image.width;
  start.preventDefault();
  const end = (event) => {
    if (event.clientX !== start.clientX || event.clientY !== start.clientY) {
      lookAt([x - (event.clientX - start.clientX) * scale, y - (event.clientY - start.clientY) * scale]);
    }
  };
  window.addEventListener("pointerup", end, { once: true });
}

function onKey(event) {
  if (inTextField(event) || event.ctrlKey || event.metaKey || event.altKey) return;
  if (document.getElementById("keys").open) return;
  if (event.shiftKey && event.key.startsWith("Arrow") && stage()) {
    const [x, y] = stage().dataset.spot.split(",").map(Number);
    const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    event.preventDefault();
    lookAt([x + dx * STEP_PX, y + dy * STEP_PX]);
    return;
  }
  if (event.shiftKey) return;
  const actions = {
    ArrowLeft: () => clickOn("[data-step-pair=left]"),
    ArrowRight: () => clickOn("[data-step-pair=right]"),
    Escape: () => window.history.back(),
    x: () => { stop(); if (stage()) other(); },
    s: () => { if (timer) stop(); else if (stage() && mode() === "blink") run(); },
    m: () => { if (stage()) setMode(MODES[(MODES.indexOf(mode()) + 1) % MODES.length]); },
  };
  if (/^[1-5]$/.test(event.key)) clickOn(`[data-verdict="${event.key}"]`);
  else if (actions[event.key]) { event.preventDefault(); actions[event.key](); } else clickOn(`[data-because="${event.key}"]`);
}
