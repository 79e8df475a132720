// A threshold that is moved by eye. What belongs to each place of the slider is asked for once, when it is touched: while it
// moves, only pictures are on their way, the middle one first and never two of it at a time.
const STILL_MS = 60;
const known = new WeakMap();
const moving = new WeakSet();
let still = 0;

function placesOf(form) {
  if (!known.has(form)) {
    const query = new URLSearchParams(new FormData(form));
    const told = fetch(`${form.dataset.places}?${query}`).then((answer) => answer.json()).then((all) => all.places);
    known.set(form, told);
    // A question that was lost is asked again at the next touch.
    told.catch(() => known.delete(form));
  }
  return known.get(form);
}

function refusalIn(figure, place) {
  const sentence = document.createElement("p");
  sentence.className = "no-picture small";
  sentence.textContent = `${place.refusal}.`;
  figure.firstElementChild.replaceWith(sentence);
}

function pictureIn(figure, place) {
  let image = figure.querySelector("img");
  if (!image) {
    image = document.createElement("img");
    image.alt = `${figure.querySelector("figcaption > span").textContent}, predicted`;
    figure.firstElementChild.replaceWith(image);
  }
  [image.width, image.height] = place.size;
  image.src = place.url;
  return image.decode().catch(() => undefined);
}

function show(figure, places, step) {
  const apart = Number(figure.dataset.apart);
  // Pictures lie beside the slider's ends too: the list begins as far before it as it ends behind it.
  const place = places[step + apart + (places.length - 1 - Number(document.getElementById("seen-step").max)) / 2];
  figure.querySelector("b").textContent = place.value;
  figure.querySelector("i").hidden = !place.iso;
  figure.querySelector("i span").textContent = place.iso;
  if (!apart) {
    document.getElementById("seen-value").textContent = place.value;
    document.getElementById(figure.closest("#seen").querySelector("form").dataset.threshold).value = place.typed;
  }
  return place.url ? pictureIn(figure, place) : refusalIn(figure, place);
}

async function follow(form) {
  if (moving.has(form)) return;
  moving.add(form);
  try {
    const places = await placesOf(form);
    const figures = [...document.querySelectorAll("#seen figure")];
    const middle = figures.find((figure) => figure.dataset.apart === "0");
    let step = null;
    while (form.isConnected && step !== form.elements.step.valueAsNumber) {
      step = form.elements.step.valueAsNumber;
      await show(middle, places, step);
    }
    window.clearTimeout(still);
    still = window.setTimeout(() => {
      for (const figure of figures) if (figure !== middle) show(figure, places, step);
    }, STILL_MS);
  } finally {
    moving.delete(form);
  }
}

export function startThreshold() {
  const form = (event) => event.target.closest?.("form[data-places]");
  for (const touch of ["pointerover", "focusin"]) {
    document.addEventListener(touch, (event) => form(event) && placesOf(form(event)).catch(() => undefined));
  }
  document.addEventListener("input", (event) => {
    if (event.target.name === "step" && form(event)) follow(form(event)).catch(() => undefined);
  });
}
