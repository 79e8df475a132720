// The current rung and the state in the URL. The server renders; this only moves the light.

export const stave = () => document.querySelector("[data-stave]");
export const heads = () => [...document.querySelectorAll("[data-stave] thead [data-iso]")];

export function state() {
  return new URL(window.location.href).searchParams;
}

export function setState(changes) {
  const url = new URL(window.location.href);
  for (const [key, value] of Object.entries(changes)) url.searchParams.set(key, value);
  window.history.replaceState(null, "", url);
  for (const link of document.querySelectorAll("[data-step]")) {
    const to = new URL(link.href);
    for (const key of ["iso", "use", "spot", "size"]) {
      if (url.searchParams.has(key)) to.searchParams.set(key, url.searchParams.get(key));
    }
    link.href = to;
  }
}

export function currentIso() {
  return heads().find((head) => head.classList.contains("now"))?.dataset.iso;
}

export function inTextField(event) {
  return event.target.matches?.("input, textarea, select, [contenteditable]");
}

export function light(iso) {
  const index = heads().findIndex((head) => head.dataset.iso === iso);
  if (index < 0) return;
  for (const row of stave().querySelectorAll("tr")) {
    const cells = [...row.children].slice(1);
    if (cells.length < heads().length) continue;
    cells.forEach((cell, n) => {
      cell.classList.toggle("now", n === index);
      // Tab goes down the lit column only: its values open their provenance without a mouse.
      const value = cell.querySelector(".value");
      if (value) value.tabIndex = n === index ? 0 : -1;
    });
  }
  heads().forEach((head, n) => {
    if (n === index) head.setAttribute("aria-current", "true");
    else head.removeAttribute("aria-current");
  });
  for (const item of document.querySelectorAll(".lit[data-iso], [data-wall] [data-iso]")) {
    item.classList.toggle("now", item.dataset.iso === iso);
  }
  heads()[index].scrollIntoView({ block: "nearest", inline: "nearest" });
}

export function goTo(iso) {
  if (!iso || iso === currentIso()) return;
  light(iso);
  setState({ iso });
  const label = document.querySelector("[data-now-iso]");
  if (label) label.textContent = `ISO ${iso}`;
  document.body.dispatchEvent(new CustomEvent("rung-changed", { detail: { iso } }));
}

export function go(changes) {
  setState(changes);
  window.location.reload();
}
