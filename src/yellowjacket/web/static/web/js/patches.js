// Moving and resizing patches on the picture, by pointer and by keys. The server has the last word.
import { inTextField } from "./stave.js";

const ROLES = ["grey", "shadow", "black"];
const NUDGE = 16;

export function startPatches() {
  document.addEventListener("pointerdown", (event) => {
    const patch = event.target.closest?.("[data-patches] [data-role]");
    if (patch) drag(patch, event);
  });
  document.addEventListener("keydown", (event) => {
    const picture = document.querySelector("[data-patches]");
    if (!picture || inTextField(event)) return;
    if (event.key === "[" || event.key === "]") choose(picture, event.key === "]" ? 1 : -1);
    else if (event.altKey && event.key.startsWith("Arrow")) nudge(picture, event);
    else return;
    event.preventDefault();
  });
}

function box(patch) {
  const edge = patch.querySelector(".edge");
  return Object.fromEntries(["x", "y", "width", "height"].map((name) => [name, Number(edge.getAttribute(name))]));
}

function draw(patch, rect) {
  for (const part of patch.querySelectorAll(".edge, .halo")) {
    for (const [name, value] of Object.entries(rect)) part.setAttribute(name, value);
  }
  const grip = patch.querySelector("[data-grip]");
  grip.setAttribute("x", rect.x + rect.width - Number(grip.getAttribute("width")));
  grip.setAttribute("y", rect.y + rect.height - Number(grip.getAttribute("height")));
}

function drag(patch, start) {
  const picture = patch.closest("[data-patches]");
  const scale = Number(picture.dataset.width) / picture.getBoundingClientRect().width;
  const begin = box(patch);
  const resize = start.target.hasAttribute("data-grip");
  patch.focus();
  start.preventDefault();
  let last = begin;
  const move = (event) => {
    const dx = (event.clientX - start.clientX) * scale;
    const dy = (event.clientY - start.clientY) * scale;
    last = resize
      ? { ...begin, width: Math.max(16, begin.width + dx), height: Math.max(16, begin.height + dy) }
      : { ...begin, x: begin.x + dx, y: begin.y + dy };
    draw(patch, last);
  };
  const up = () => {
    window.removeEventListener("pointermove", move);
    if (last !== begin) send(picture, patch.dataset.role, last);
  };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", up, { once: true });
}

function choose(picture, by) {
  const at = ROLES.indexOf(document.activeElement?.dataset?.role);
  const next = at < 0 ? 0 : (at + by + ROLES.length) % ROLES.length;
  picture.querySelector(`[data-role=${ROLES[next]}]`)?.focus();
}

function nudge(picture, event) {
  const patch = document.activeElement?.closest?.("[data-role]");
  if (!patch) return;
  const rect = box(patch);
  const [dx, dy] = { ArrowLeft: [-NUDGE, 0], ArrowRight: [NUDGE, 0], ArrowUp: [0, -NUDGE], ArrowDown: [0, NUDGE] }[event.key];
  if (event.shiftKey) Object.assign(rect, { width: rect.width + dx, height: rect.height + dy });
  else Object.assign(rect, { x: rect.x + dx, y: rect.y + dy });
  draw(patch, rect);
  send(picture, patch.dataset.role, rect);
}

function send(picture, role, rect) {
  const values = { role, x: rect.x, y: rect.y, w: rect.width, h: rect.height };
  window.htmx
    .ajax("POST", picture.dataset.url, { target: "#picture-panel", swap: "innerHTML", values, source: document.body })
    .then(() => document.querySelector(`[data-patches] [data-role=${role}]`)?.focus());
}
