// After an action the focus stays where it was, or on what stands there now: a fragment that comes anew, or a page that is
// loaded again, would lose it.
const KEPT = "focus-and-place";
const KEPT_MS = 10000;

function described(element) {
  if (!element || element === document.body) return null;
  const form = element.form?.getAttribute("action") ?? element.form?.getAttribute("hx-post") ?? "";
  return {
    tag: element.tagName, id: element.id, name: element.name ?? "", form,
    to: element.getAttribute("hx-post") ?? element.getAttribute("hx-get") ?? "", text: element.textContent.trim(),
  };
}

// The same element, else the one of the next row that says the same.
function found(was) {
  if (was.id) return document.getElementById(was.id);
  const alike = [...document.querySelectorAll(was.tag)].map((element) => [element, described(element)]);
  const same = (one, keys) => keys.every((key) => one[key] === was[key]);
  return (
    alike.find(([, one]) => one && same(one, ["name", "form", "to", "text"])) ??
    alike.find(([, one]) => one && was.text && same(one, ["name", "text"]))
  )?.[0];
}

function restore(was) {
  if (!was || (document.activeElement && document.activeElement !== document.body)) return;
  found(was)?.focus({ preventScroll: true });
}

export function startFocus() {
  let before = null;
  document.addEventListener("htmx:beforeSwap", () => { before = described(document.activeElement) ?? before; });
  document.addEventListener("htmx:afterSettle", () => { restore(before); before = null; });
  document.addEventListener("submit", (event) => {
    const was = described(event.submitter ?? document.activeElement);
    const kept = { path: window.location.pathname, y: window.scrollY, was, at: Date.now() };
    window.sessionStorage.setItem(KEPT, JSON.stringify(kept));
  });
  const kept = JSON.parse(window.sessionStorage.getItem(KEPT) ?? "null");
  window.sessionStorage.removeItem(KEPT);
  if (!kept || kept.path !== window.location.pathname || Date.now() - kept.at > KEPT_MS) return;
  if (!document.querySelector("[role=alert]")) window.scrollTo(0, kept.y);
  if (kept.was) restore(kept.was);
}
