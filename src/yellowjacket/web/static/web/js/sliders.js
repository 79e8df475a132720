// Sliders in stops say in words what they do: "2/3 stop wider".
const THIRDS = ["", "1/3", "2/3"];

function inWords(slider) {
  const [fewer, more] = slider.dataset.stops.split("|");
  const thirds = Math.round(3 * Number(slider.value));
  if (!thirds) return "as asked";
  const [whole, rest] = [Math.floor(Math.abs(thirds) / 3), Math.abs(thirds) % 3];
  const amount = [whole || "", THIRDS[rest]].filter(Boolean).join(" ");
  return `${amount} stop${whole > 1 || (whole && rest) ? "s" : ""} ${thirds < 0 ? fewer : more}`;
}

// The picture that a slider moves comes first; the ones beside it wait until it is there, if there is one.
function release() {
  for (const later of document.querySelectorAll(".pictured img[data-later]")) {
    const first = later.closest(".pictured").querySelector("img[data-first]");
    if (first && !first.complete) continue;
    later.src = later.dataset.later;
    later.removeAttribute("data-later");
  }
}

export function startPictures() {
  for (const event of ["load", "error"]) {
    document.addEventListener(event, ({ target }) => { if (target.matches?.("img[data-first]")) release(); }, true);
  }
  document.addEventListener("htmx:afterSettle", release);
  release();
}

export function startSliders() {
  for (const slider of document.querySelectorAll("[data-stops]")) {
    const said = document.querySelector(`output[for="${slider.id}"]`);
    const say = () => { said.textContent = inWords(slider); };
    slider.addEventListener("input", say);
    say();
  }
}
