// Looking and grading: the spot, the size, grades and reasons by key.
import { currentRung, go, inTextField, setState, state } from "./stave.js";

const SIZES = ["100", "200", "300"];
const STEP_PX = 64;

export function startLook() {
  if (!document.getElementById("wall")) return;
  showCurrent();
  document.body.addEventListener("rung-changed", showCurrent);
  document.addEventListener("htmx:afterSwap", showCurrent);
  document.addEventListener("pointerdown", (event) => {
    const overview = event.target.closest?.("[data-overview]");
    if (overview) dragSpot(overview, event);
  });
  document.addEventListener("click", (event) => {
    const button = event.target.closest("[data-grade], [data-reason]");
    const known = event.target.closest("[data-to-spot]");
    if (known) look(known.dataset.toSpot);
    if (button) grade(button.dataset.grade ? { grade: button.dataset.grade } : { reason: button.dataset.reason });
  });
  document.addEventListener("keydown", onKey);
  document.getElementById("person")?.addEventListener("change", (event) => event.target.form.requestSubmit());
}

function onKey(event) {
  if (inTextField(event) || event.ctrlKey || event.metaKey || event.altKey) return;
  if (document.getElementById("keys").open) return;
  if (event.shiftKey && event.key.startsWith("Arrow")) return moveBy(event);
  if (event.shiftKey) return undefined;
  if (/^[1-5]$/.test(event.key)) return grade({ grade: event.key });
  if (event.key === "0") return grade({ grade: "none" });
  if (event.key === "z") {
    const at = SIZES.indexOf(state().get("size") ?? SIZES[0]);
    return go({ size: SIZES[(at + 1) % SIZES.length] });
  }
  const reason = [...document.querySelectorAll("[data-reason]")].find(
    (button) => button.querySelector("kbd").textContent.toLowerCase() === event.key,
  );
  return reason?.click();
}

// 100 % is one image pixel to one device pixel, on any screen.
function fitToDevice() {
  const ratio = window.devicePixelRatio || 1;
  for (const image of document.querySelectorAll("[data-wall] img")) {
    const [, , w, h] = image.src.match(/crop\/(\d+),(\d+),(\d+),(\d+)/).slice(1).map(Number);
    const zoom = Number(image.dataset.size) / 100 / ratio;
    image.width = w * zoom;
    image.height = h * zoom;
  }
}

function showCurrent() {
  fitToDevice();
  const wall = document.querySelector("[data-wall]");
  const cell = wall?.querySelector(".now");
  // The current cell stands second from the left, so that its neighbours are seen beside it.
  if (cell) wall.scrollLeft = cell.offsetLeft - wall.offsetLeft - cell.offsetWidth - 8;
}

function grade(values) {
  const wall = document.getElementById("wall");
  const url = new URL("grade/" + window.location.search, window.location.href.split("?")[0]);
  window.htmx.ajax("POST", url.pathname + url.search, {
    target: wall, swap: "innerHTML", values: { ...values, rung: currentRung() }, source: document.body,
  });
}

function look(spot) {
  setState({ spot });
  const base = window.location.pathname;
  window.htmx.ajax("GET", `${base}wall/${window.location.search}`, { target: "#wall", swap: "innerHTML", source: document.body });
}

function moveBy(event) {
  const [x, y] = document.querySelector("[data-spot]").dataset.spot.split(",").map(Number);
  const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  event.preventDefault();
  const reach = Math.round((STEP_PX * 100) / Number(state().get("size") ?? 100));
  look(`${Math.max(0, x + dx * reach)},${Math.max(0, y + dy * reach)}`);
}

function dragSpot(overview, start) {
  const frame = overview.viewBox.baseVal;
  const rect = overview.querySelector("rect");
  const at = (event) => {
    const bounds = overview.getBoundingClientRect();
    const x = Math.round(((event.clientX - bounds.left) / bounds.width) * frame.width);
    const y = Math.round(((event.clientY - bounds.top) / bounds.height) * frame.height);
    return [Math.min(Math.max(x, 0), frame.width), Math.min(Math.max(y, 0), frame.height)];
  };
  let spot = at(start);
  const show = () => {
    rect.setAttribute("x", spot[0] - rect.width.baseVal.value / 2);
    rect.setAttribute("y", spot[1] - rect.height.baseVal.value / 2);
  };
  show();
  start.preventDefault();
  const move = (event) => { spot = at(event); show(); };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", () => {
    window.removeEventListener("pointermove", move);
    look(spot.join(","));
  }, { once: true });
}
