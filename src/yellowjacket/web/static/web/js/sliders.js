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

export function startSliders() {
  for (const slider of document.querySelectorAll("[data-stops]")) {
    const said = document.querySelector(`output[for="${slider.id}"]`);
    const say = () => { said.textContent = inWords(slider); };
    slider.addEventListener("input", say);
    say();
  }
}
