// The current rung and the state in the URL. The server renders; this only moves the light.

export const stave = () => document.querySelector("[data-stave]");
export const heads = () => [...document.querySelectorAll("[data-stave] thead [data-rung]")];

export function state() {
  return new URL(window.location.href).searchParams;
}

// Back undoes the last change of what is shown. Steps that follow each other closely are one change.
const ONE_CHANGE_MS = 1500;
let changedAt = 0;
let shown = window.location.search;

function withChanges(changes) {
  const url = new URL(window.location.href);
  for (const [key, value] of Object.entries(changes)) url.searchParams.set(key, value);
  return url;
}

// Anchors within the page come back by themselves.
window.addEventListener("popstate", () => {
  if (window.location.search !== shown) window.location.reload();
});

export function setState(changes) {
  const url = withChanges(changes);
  const now = Date.now();
  if (url.search !== window.location.search) {
    if (now - changedAt > ONE_CHANGE_MS) window.history.pushState(null, "", url);
    else window.history.replaceState(null, "", url);
    changedAt = now;
    shown = url.search;
  }
  for (const link of document.querySelectorAll("[data-step]")) {
    const to = new URL(link.href);
    for (const key of ["ladder", "rung", "use", "spot", "size", "rows"]) {
      if (url.searchParams.has(key)) to.searchParams.set(key, url.searchParams.get(key));
    }
    link.href = to;
  }
}

export function currentRung() {
  return heads().find((head) => head.classList.contains("now"))?.dataset.rung;
}

export function inTextField(event) {
  return event.target.matches?.("input, textarea, select, [contenteditable]");
}

// A key stands for a button. One that has just arrived is not yet bound to what it does; it is pressed once it is.
export function clickOn(selector) {
  const button = document.querySelector(selector);
  if (!button?.closest(".htmx-added")) return button?.click();
  return document.addEventListener("htmx:afterSettle", () => document.querySelector(selector)?.click(), { once: true });
}

export function light(key) {
  const index = heads().findIndex((head) => head.dataset.rung === key);
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
  for (const item of document.querySelectorAll(".lit[data-rung], [data-wall] [data-rung]")) {
    item.classList.toggle("now", item.dataset.rung === key);
  }
  reveal(heads()[index]);
}

// Sideways only: whoever looks at something further down the page stays there, whatever came anew.
function reveal(head) {
  const box = stave().closest(".stave-scroll");
  if (!box) return;
  const view = box.getBoundingClientRect(), own = head.getBoundingClientRect();
  // Names stay at the left edge, over what is scrolled.
  const left = Math.max(view.left, head.parentElement.firstElementChild.getBoundingClientRect().right);
  if (own.left < left) box.scrollLeft -= left - own.left;
  else if (own.right > view.right) box.scrollLeft += own.right - view.right;
}

export function goTo(key) {
  if (!key || key === currentRung()) return;
  light(key);
  setState({ rung: key });
  const label = document.querySelector("[data-now-rung]");
  if (label) label.textContent = heads().find((head) => head.dataset.rung === key)?.dataset.label ?? key;
  document.body.dispatchEvent(new CustomEvent("rung-changed", { detail: { rung: key } }));
}

export function go(changes) {
  window.location.assign(withChanges(changes));
}
