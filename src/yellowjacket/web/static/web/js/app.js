// The keys that work on every page of a sitting, clicks on the stave, and files dropped on a form.
import { startCountdown } from "./countdown.js";
import { startFocus } from "./focus.js";
import { startLook } from "./look.js";
import { startPair } from "./pair.js";
import { startPatches } from "./patches.js";
import { startRounds } from "./rounds.js";
import { startScrolling } from "./scrolling.js";
import { startSliders } from "./sliders.js";
import { clickOn, go, goTo, heads, inTextField, light, stave, state } from "./stave.js";
import { startThreshold } from "./threshold.js";
import { startTime } from "./time.js";
import { startWindows } from "./windows.js";

function step(by) {
  const all = heads();
  const at = all.findIndex((head) => head.classList.contains("now"));
  goTo(all[Math.min(all.length - 1, Math.max(0, at + by))]?.dataset.rung);
}

function nextUse() {
  const links = [...document.querySelectorAll("[data-use]")];
  if (links.length) {
    const at = links.findIndex((link) => link.classList.contains("in-force"));
    go({ use: links[(at + 1) % links.length].dataset.use });
  }
}

function nextToDecide() {
  const cells = [...document.querySelectorAll("[data-line=wants] td")];
  const at = heads().findIndex((head) => head.classList.contains("now"));
  const order = cells.map((_, n) => (at + 1 + n) % cells.length);
  const to = order.find((n) => cells[n].textContent.trim());
  if (to !== undefined) goTo(heads()[to].dataset.rung);
}

function nextLadder(by) {
  const tabs = [...document.querySelectorAll("[data-ladder]")];
  const at = tabs.findIndex((tab) => tab.classList.contains("here"));
  const to = tabs[at + by];
  if (to) window.location.assign(to.href);
}

document.addEventListener("keydown", (event) => {
  if (inTextField(event) || event.ctrlKey || event.metaKey || event.altKey || event.shiftKey) {
    if (event.key !== "?" || inTextField(event)) return;
  }
  const actions = {
    ArrowLeft: () => step(-1),
    ArrowRight: () => step(1),
    ArrowUp: () => nextLadder(-1),
    ArrowDown: () => nextLadder(1),
    " ": () => clickOn("[data-key=' ']:not(:disabled)"),
    u: () => clickOn("[data-key=u]:not(:disabled)"),
    s: () => document.querySelector("[data-skip]")?.focus(),
    n: nextToDecide,
    Home: () => goTo(heads()[0]?.dataset.rung),
    End: () => goTo(heads().at(-1)?.dataset.rung),
    f: nextUse,
    m: () => clickOn("[data-key=m]:not(:disabled)"),
    b: () => clickOn("[data-key=b]"),
    "/": () => document.getElementById("q")?.focus(),
    "?": () => document.getElementById("keys").showModal(),
  };
  const action = actions[event.key];
  if (!action || document.getElementById("keys").open) return;
  if (!stave() && !["?", "m", "/"].includes(event.key)) return;
  event.preventDefault();
  action();
});

document.addEventListener("click", (event) => {
  const head = event.target.closest("[data-stave] thead [data-rung] a");
  if (head) {
    event.preventDefault();
    goTo(head.closest("[data-rung]").dataset.rung);
    return;
  }
  const link = event.target.closest("[data-use], [data-state-link]");
  if (link) {
    event.preventDefault();
    go(link.dataset.use ? { use: link.dataset.use } : { [link.dataset.stateLink]: link.dataset.value });
  }
});

// Fragments are asked for with the state of the page.
document.addEventListener("htmx:configRequest", (event) => {
  for (const [key, value] of state()) {
    if (!event.detail.formData.has(key)) event.detail.formData.set(key, value);
  }
});

// Somebody who follows a link has left: an answer that still comes, such as "reload yourself", must not pull them
// back. A download looks like leaving too, so the page listens again after a moment.
let leaving = false;
window.addEventListener("beforeunload", () => {
  leaving = true;
  window.setTimeout(() => { leaving = false; }, 3000);
});
document.addEventListener("htmx:beforeOnLoad", (event) => {
  if (leaving) event.preventDefault();
});

// Work that has ended renews the page, but never under the hands of somebody who is filling in a form.
let typed = false;
document.addEventListener("input", (event) => {
  if (event.target.closest("form[method=post]")) typed = true;
});
document.addEventListener("htmx:beforeOnLoad", (event) => {
  if (!typed || !event.detail.xhr.getResponseHeader("HX-Refresh")) return;
  event.preventDefault();
  event.detail.elt.remove();
});

// After a swap the lit column follows the URL, whatever the server thought.
document.addEventListener("htmx:afterSwap", () => {
  const key = state().get("rung");
  if (key && stave()) light(key);
});

// What was changed since the page came is in its address alone.
document.addEventListener("submit", (event) => {
  if (!event.target.matches("[data-keeps-view]")) return;
  const to = new URL(event.target.action);
  to.search = window.location.search;
  event.target.action = to;
}, { capture: true });

// Choices that lead on at once, and buttons that ask with what is chosen beside them.
document.addEventListener("change", (event) => {
  if (event.target.matches("[data-go]")) event.target.form.requestSubmit();
});
document.addEventListener("change", (event) => {
  if (event.target.matches("[data-practice-sitting]")) window.location.assign(`?sitting=${event.target.value}`);
});
document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-fit]");
  if (button) window.htmx.ajax("GET", button.form.querySelector("[data-fitting]").value, "#candidates");
});

for (const zone of document.querySelectorAll("[data-drop]")) {
  const files = zone.querySelector("input[type=file]");
  for (const name of ["dragenter", "dragover"]) {
    zone.addEventListener(name, (event) => { event.preventDefault(); zone.classList.add("dropping"); });
  }
  zone.addEventListener("dragleave", () => zone.classList.remove("dropping"));
  zone.addEventListener("drop", (event) => {
    event.preventDefault();
    zone.classList.remove("dropping");
    files.files = event.dataTransfer.files;
    zone.requestSubmit();
  });
}

// A reader looks only: what would be refused cannot be pressed. The server decides, this only says so beforehand.
function lookOnly() {
  if (document.body.dataset.role !== "reader") return;
  for (const form of document.querySelectorAll("#content form[method=post]:not([data-own])")) {
    for (const field of form.elements) field.disabled = true;
  }
  for (const one of document.querySelectorAll("#content [hx-post], #content [data-grade], #content [data-reason]")) {
    one.disabled = true;
    one.title = "You look only";
  }
}
document.addEventListener("htmx:afterSwap", lookOnly);
lookOnly();

startFocus();
startCountdown();
startPatches();
startLook();
startPair();
startTime();
startRounds();
startScrolling();
startSliders();
startThreshold();
startWindows(() => typed);
