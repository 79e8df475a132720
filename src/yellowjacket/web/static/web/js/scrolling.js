// What scrolls sideways by itself, on small screens and when zoomed in, is reached by keys as well.
const WIDE = "table.rows, .book-page pre, .book-page table, #limits, .unfolds";

function mark() {
  for (const element of document.querySelectorAll(WIDE)) {
    const scrolls = element.scrollWidth > element.clientWidth && getComputedStyle(element).overflowX !== "visible";
    if (scrolls) element.tabIndex = 0;
    else if (element.getAttribute("tabindex") === "0") element.removeAttribute("tabindex");
  }
}

export function startScrolling() {
  mark();
  window.addEventListener("resize", mark);
  document.addEventListener("htmx:afterSettle", mark);
  document.addEventListener("toggle", mark, true);
}
