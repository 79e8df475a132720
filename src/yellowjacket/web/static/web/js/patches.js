// Moving, resizing and drawing patches on the picture, and the corners of a chart's grid, by pointer and by keys.
// The server has the last word.
import { inTextField } from "./stave.js";

const NUDGE = 16;
const LEAST = 16;

export function startPatches() {
  document.addEventListener("pointerdown", (event) => {
    const picture = event.target.closest?.("[data-patches]");
    if (!picture || event.button !== 0) return;
    const corner = event.target.closest("[data-corner]");
    const patch = event.target.closest("[data-patch]");
    if (corner) dragCorner(picture, corner, event);
    else if (patch) drag(patch, event);
    else if (!gridForm(picture)) drawNew(picture, event);
  });
  document.addEventListener("keydown", (event) => {
    const picture = document.querySelector("[data-patches]");
    if (!picture || inTextField(event)) return;
    if (event.key === "[" || event.key === "]") choose(picture, event.key === "]" ? 1 : -1);
    else if (event.altKey && event.key.startsWith("Arrow")) nudge(picture, event);
    else return;
    event.preventDefault();
  });
  document.addEventListener("toggle", (event) => {
    if (event.target.matches?.("[data-grid]")) showCorners();
  }, true);
  document.addEventListener("input", (event) => {
    if (event.target.closest?.("[data-grid]")) showCorners();
  });
  document.addEventListener("htmx:afterSwap", showCorners);
  // Fragments of the panel keep showing what is shown.
  document.addEventListener("htmx:configRequest", (event) => {
    const shown = document.querySelector("[data-patches]")?.dataset.show;
    if (shown && !event.detail.formData.has("show")) event.detail.formData.set("show", shown);
  });
  document.addEventListener("rung-changed", () => {
    const picture = document.querySelector("[data-patches]");
    if (picture) window.htmx.ajax("GET", picture.dataset.url.replace(/patch\/$/, "picture/"), { target: "#picture-panel", swap: "innerHTML" });
  });
}

const scaleOf = (picture) => Number(picture.dataset.width) / picture.getBoundingClientRect().width;

function at(picture, event) {
  const frame = picture.getBoundingClientRect();
  const scale = scaleOf(picture);
  return { x: (event.clientX - frame.left) * scale, y: (event.clientY - frame.top) * scale };
}

function follow(move, up) {
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", (event) => {
    window.removeEventListener("pointermove", move);
    up(event);
  }, { once: true });
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
  const scale = scaleOf(picture);
  const begin = box(patch);
  const resize = start.target.hasAttribute("data-grip");
  patch.focus();
  start.preventDefault();
  let last = begin;
  follow(
    (event) => {
      const dx = (event.clientX - start.clientX) * scale;
      const dy = (event.clientY - start.clientY) * scale;
      last = resize
        ? { ...begin, width: Math.max(LEAST, begin.width + dx), height: Math.max(LEAST, begin.height + dy) }
        : { ...begin, x: begin.x + dx, y: begin.y + dy };
      draw(patch, last);
    },
    () => { if (last !== begin) send(picture, patch.dataset.patch, last); },
  );
}

// A rectangle dragged on the bare picture fills the form; nothing is stored before it has a name.
function drawNew(picture, start) {
  const ghost = picture.querySelector("[data-ghost]");
  const from = at(picture, start);
  let rect = null;
  start.preventDefault();
  follow(
    (event) => {
      const to = at(picture, event);
      rect = { x: Math.min(from.x, to.x), y: Math.min(from.y, to.y), width: Math.abs(to.x - from.x), height: Math.abs(to.y - from.y) };
      for (const [name, value] of Object.entries(rect)) ghost.setAttribute(name, value);
      ghost.removeAttribute("hidden");
    },
    () => {
      if (!rect || Math.min(rect.width, rect.height) < LEAST) {
        ghost.setAttribute("hidden", "");
        return;
      }
      const panel = document.querySelector("[data-draw]");
      panel.open = true;
      const form = panel.querySelector("form");
      for (const [field, value] of [["x", rect.x], ["y", rect.y], ["w", rect.width], ["h", rect.height]]) {
        form.elements[field].value = Math.round(value);
      }
      form.elements.name.focus();
    },
  );
}

function choose(picture, by) {
  const all = [...picture.querySelectorAll("[data-patch]")];
  if (!all.length) return;
  const now = all.indexOf(document.activeElement);
  all[now < 0 ? 0 : (now + by + all.length) % all.length].focus();
}

function nudge(picture, event) {
  const patch = document.activeElement?.closest?.("[data-patch]");
  if (!patch) return;
  const rect = box(patch);
  const [dx, dy] = { ArrowLeft: [-NUDGE, 0], ArrowRight: [NUDGE, 0], ArrowUp: [0, -NUDGE], ArrowDown: [0, NUDGE] }[event.key];
  if (event.shiftKey) Object.assign(rect, { width: rect.width + dx, height: rect.height + dy });
  else Object.assign(rect, { x: rect.x + dx, y: rect.y + dy });
  draw(patch, rect);
  send(picture, patch.dataset.patch, rect);
}

function send(picture, name, rect) {
  const values = { name, x: rect.x, y: rect.y, w: rect.width, h: rect.height };
  window.htmx
    .ajax("POST", picture.dataset.url, { target: "#picture-panel", swap: "innerHTML", values, source: document.body })
    .then(() => [...document.querySelectorAll("[data-patch]")].find((one) => one.dataset.patch === name)?.focus());
}

function gridForm() {
  const panel = document.querySelector("[data-grid]");
  return panel?.open ? panel.querySelector("form") : null;
}

// The outline of the grid with a handle on every corner, while its form is open.
function showCorners() {
  const group = document.querySelector("[data-patches] [data-corners]");
  if (!group) return;
  const form = gridForm();
  group.toggleAttribute("hidden", !form);
  if (!form) return;
  const corners = [1, 2, 3, 4].map((n) => [Number(form.elements[`x${n}`].value) || 0, Number(form.elements[`y${n}`].value) || 0]);
  group.querySelector(".outline").setAttribute("points", corners.map((corner) => corner.join(",")).join(" "));
  const handles = group.querySelector(".handles");
  const radius = Number(group.ownerSVGElement.dataset.width) / 80;
  if (!handles.childElementCount) {
    corners.forEach((_, n) => {
      const handle = document.createElementNS("http://www.w3.org/2000/svg", "circle");
      handle.dataset.corner = n + 1;
      handle.setAttribute("r", radius);
      if (n === 0) handle.classList.add("first");
      handles.append(handle);
    });
  }
  [...handles.children].forEach((handle, n) => {
    handle.setAttribute("cx", corners[n][0]);
    handle.setAttribute("cy", corners[n][1]);
  });
}

function dragCorner(picture, corner, start) {
  const form = gridForm();
  start.preventDefault();
  follow(
    (event) => {
      const to = at(picture, event);
      form.elements[`x${corner.dataset.corner}`].value = Math.round(to.x);
      form.elements[`y${corner.dataset.corner}`].value = Math.round(to.y);
      showCorners();
    },
    () => {},
  );
}
