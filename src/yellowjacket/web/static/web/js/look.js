// Looking and grading: the spot, the switches, rows, pins, grades and reasons by key.
import { fetchAhead, fitToDevice, moveCells, whenShown } from "./cells.js";
import { clickOn, currentRung, goTo, heads, inTextField, setState, state } from "./stave.js";

const SIZES = ["use", "100", "200", "300", "print"];
const ROWS = ["one", "ladders", "spots"];
const STEP_PX = 64;
const MOST_PUSH = 6;
const MOST_SLIDE = 10;

const wall = () => document.querySelector("[data-wall]");

export function startLook() {
  if (!document.getElementById("wall")) return;
  shown();
  document.body.addEventListener("rung-changed", scrollToCurrent);
  document.addEventListener("htmx:afterSwap", (event) => { if (event.target.id === "wall") shown(); });
  document.addEventListener("pointerdown", (event) => {
    const overview = event.target.closest?.("[data-overview]");
    if (overview) dragSpot(overview, event);
  });
  document.addEventListener("click", onClick);
  document.addEventListener("keydown", onKey);
  document.getElementById("person")?.addEventListener("change", (event) => event.target.form.requestSubmit());
}

function onClick(event) {
  const at = (selector) => event.target.closest(selector);
  const pin = at("[data-pin]");
  if (pin) return togglePin(pin.dataset.pin);
  const link = at("[data-look]");
  if (link) {
    event.preventDefault();
    return refresh({ [link.dataset.look]: link.dataset.value });
  }
  const push = at("[data-push]");
  if (push) return pushBy(Number(push.dataset.push));
  const slide = at("[data-slide]");
  if (slide) return slideBy(Number(slide.dataset.slide));
  const match = at("[data-slide-to]");
  if (match) return refresh({ slide: match.dataset.slideTo });
  const known = at("[data-to-spot]");
  if (known) return look(known.dataset.toSpot.split(",").map(Number), true);
  const compare = at("[data-compare]");
  if (compare) {
    event.preventDefault();
    return comparePinned();
  }
  const button = at("[data-grade], [data-reason]");
  if (button) return grade(button.dataset.grade ? { grade: button.dataset.grade } : { reason: button.dataset.reason });
  const cell = at("[data-wall] li[data-rung]");
  return cell ? select(cell) : undefined;
}

function onKey(event) {
  if (inTextField(event) || event.ctrlKey || event.metaKey || event.altKey) return undefined;
  if (document.getElementById("keys").open) return undefined;
  if (event.shiftKey && event.key.startsWith("Arrow")) return moveBy(event);
  if (event.key === "P") return pushBy(-1);
  if (event.shiftKey) return undefined;
  if (/^[1-5]$/.test(event.key)) return clickOn(`[data-grade="${event.key}"]`);
  const actions = {
    0: () => grade({ grade: "none" }),
    z: () => cycle("size", SIZES, "100"),
    r: () => cycle("rows", ROWS, "one"),
    p: () => pushBy(1),
    "[": () => slideBy(-1),
    "]": () => slideBy(1),
    i: () => togglePin(wall()?.querySelector(".here .now [data-pin]")?.dataset.pin),
    x: comparePinned,
  };
  if (actions[event.key]) return actions[event.key]();
  const reason = [...document.querySelectorAll("[data-reason]")].find(
    (button) => button.querySelector("kbd").textContent.toLowerCase() === event.key,
  );
  return reason?.click();
}

function cycle(name, choices, usual) {
  const at = choices.indexOf(state().get(name) ?? usual);
  refresh({ [name]: choices[(at + 1) % choices.length] });
}

function pushBy(stops) {
  const now = Number(state().get("push") ?? 0) + stops;
  refresh({ push: Math.max(-MOST_PUSH, Math.min(MOST_PUSH, now)) });
}

function slideBy(stops) {
  if ((state().get("rows") ?? "one") !== "ladders") return;
  const now = Number(state().get("slide") ?? 0) + stops;
  refresh({ slide: Math.max(-MOST_SLIDE, Math.min(MOST_SLIDE, now)) });
}

// A cell of the current row moves the light; one of another row changes ladder or lane as well.
function select(cell) {
  const { rung, ladder, lane } = cell.dataset;
  if (cell.closest(".wall-row").classList.contains("here")) return goTo(rung);
  setState({ ladder, lane, rung });
  return window.location.reload();
}

function shown() {
  fitToDevice();
  scrollToCurrent();
  showPins();
  if (wall()) fetchAhead(wall());
}

// The current cell stands second from the left, so that its neighbours are seen beside it.
function scrollToCurrent() {
  const cell = wall()?.querySelector(".now");
  if (cell) wall().scrollLeft = cell.offsetLeft - wall().offsetLeft - cell.offsetWidth - 8;
}

const pins = () => (state().get("pins") ?? "").split(",").filter(Boolean);

function togglePin(key) {
  if (!key) return;
  const now = pins();
  // Two at most: the older one goes.
  setState({ pins: (now.includes(key) ? now.filter((one) => one !== key) : [...now, key].slice(-2)).join(",") });
  showPins();
}

function showPins() {
  for (const button of document.querySelectorAll("[data-pin]")) {
    button.setAttribute("aria-pressed", String(pins().includes(button.dataset.pin)));
  }
}

function comparePinned() {
  const [a, b] = pins();
  const url = new URL(document.querySelector("[data-compare]").href);
  for (const [key, value] of state()) url.searchParams.set(key, value);
  url.searchParams.set("rung", currentRung() ?? heads()[0]?.dataset.rung);
  if (a) url.searchParams.set("a", a);
  if (b) url.searchParams.set("b", b);
  window.location.assign(url);
}

function grade(values) {
  const url = new URL("grade/" + window.location.search, window.location.href.split("?")[0]);
  window.htmx.ajax("POST", url.pathname + url.search, {
    target: "#wall", swap: "innerHTML", values: { ...values, rung: currentRung() }, source: document.body,
  });
}

function refresh(changes) {
  setState(changes);
  const base = window.location.pathname;
  return window.htmx.ajax("GET", `${base}wall/${window.location.search}`, { target: "#wall", swap: "innerHTML", source: document.body });
}

// The browser moves the cells at once; the server remembers the spot afterwards. Where frames are aligned at the spot, or
// the rows are spots, the server must work the wall out anew.
function look(spot, settled) {
  setState({ spot: spot.join(",") });
  const known = document.querySelector("[data-spot]");
  known.dataset.spot = spot.join(",");
  known.textContent = spot.join(", ");
  if (state().get("aligned") === "yes" || state().get("rows") === "spots") return settled ? refresh({}).then(remember) : undefined;
  moveCells(spot, wall());
  place(spot);
  if (!settled) return undefined;
  return whenShown(wall()).then(remember);
}

function remember() {
  if (document.body.dataset.role === "reader") return undefined;
  return window.htmx.ajax("POST", `${window.location.pathname}spot/${window.location.search}`, { swap: "none", source: document.body });
}

function place(spot) {
  const rect = document.querySelector("[data-overview] rect");
  rect.setAttribute("x", spot[0] - rect.width.baseVal.value / 2);
  rect.setAttribute("y", spot[1] - rect.height.baseVal.value / 2);
}

function moveBy(event) {
  const [x, y] = document.querySelector("[data-spot]").dataset.spot.split(",").map(Number);
  const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  event.preventDefault();
  const frame = document.querySelector("[data-overview]").viewBox.baseVal;
  const reach = Math.round((STEP_PX * 100) / (Number(state().get("size")) || 100));
  const within = (value, most) => Math.min(Math.max(0, value), most);
  look([within(x + dx * reach, frame.width), within(y + dy * reach, frame.height)], true);
}

function dragSpot(overview, start) {
  const frame = overview.viewBox.baseVal;
  const at = (event) => {
    const bounds = overview.getBoundingClientRect();
    const x = Math.round(((event.clientX - bounds.left) / bounds.width) * frame.width);
    const y = Math.round(((event.clientY - bounds.top) / bounds.height) * frame.height);
    return [Math.min(Math.max(x, 0), frame.width), Math.min(Math.max(y, 0), frame.height)];
  };
  let spot = at(start);
  let waiting = false;
  place(spot);
  start.preventDefault();
  // While it is dragged the cells follow as fast as they can be drawn.
  const follow = () => {
    if (waiting) return;
    waiting = true;
    window.setTimeout(() => { waiting = false; look(spot, false); }, 120);
  };
  const move = (event) => { spot = at(event); place(spot); follow(); };
  window.addEventListener("pointermove", move);
  window.addEventListener("pointerup", () => {
    window.removeEventListener("pointermove", move);
    look(spot, true);
  }, { once: true });
}
