// Blind rounds: answers by key, and one image pixel to one device pixel.
import { clickOn, inTextField } from "./stave.js";

export function startRounds() {
  if (!document.querySelector("[data-blind]")) return;
  fit();
  document.addEventListener("htmx:afterSwap", fit);
  document.addEventListener("keydown", (event) => {
    if (inTextField(event) || event.ctrlKey || event.metaKey || event.altKey || event.repeat) return;
    if (document.getElementById("keys").open) return;
    if (event.key === "?") document.getElementById("keys").showModal();
    clickOn(`[data-answer="${CSS.escape(event.key.toLowerCase())}"]`);
  });
}

function fit() {
  for (const image of document.querySelectorAll("[data-blind-crop]")) {
    if (image.complete && image.naturalWidth) toDevice(image);
    else image.addEventListener("load", () => toDevice(image), { once: true });
  }
}

function toDevice(image) {
  const ratio = window.devicePixelRatio || 1;
  image.style.width = `${image.naturalWidth / ratio}px`;
  image.style.height = `${image.naturalHeight / ratio}px`;
}
