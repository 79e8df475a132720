// Cells that show one spot: the address of a crop says what is cut, so the browser moves them by itself.
const WAIT_MS = 1500;
const CROP = /crop\/(\d+),(\d+),(\d+),(\d+)\.png/;

// 100 % is one image pixel to one device pixel, on any screen.
export function fitToDevice(root = document) {
  const ratio = window.devicePixelRatio || 1;
  for (const image of root.querySelectorAll("img[data-zoom]")) {
    image.dataset.shown ??= `${image.getAttribute("width")},${image.getAttribute("height")}`;
    const [w, h] = image.dataset.shown.split(",").map(Number);
    image.width = w / ratio;
    image.height = h / ratio;
  }
  for (const box of root.querySelectorAll("[data-box]")) box.style.minHeight = `${Number(box.dataset.box) / ratio}px`;
}

// The spot is in raw pixels of the current ladder; every picture knows where that lies on it.
export function moveCells(spot, root = document) {
  for (const image of root.querySelectorAll("img[data-place]")) {
    const found = image.getAttribute("src").match(CROP);
    if (!found) continue;
    const [w, h] = [Number(found[3]), Number(found[4])];
    const [a, b, x0, y0] = image.dataset.place.split(",").map(Number);
    const [width, height] = image.dataset.frame.split(",").map(Number);
    const [x, y] = [a * spot[0] - b * spot[1] + x0, b * spot[0] + a * spot[1] + y0].map(Math.round);
    const left = Math.min(Math.max(0, x - Math.floor(w / 2)), width - w);
    const top = Math.min(Math.max(0, y - Math.floor(h / 2)), height - h);
    image.src = image.getAttribute("src").replace(CROP, `crop/${left},${top},${w},${h}.png`);
  }
}

// Settled when every picture in view is there, or cannot be had.
export function whenShown(root) {
  const seen = [...root.querySelectorAll("img[data-place]")].filter((image) => {
    const { left, right, top, bottom } = image.getBoundingClientRect();
    return right > 0 && left < window.innerWidth && bottom > 0 && top < window.innerHeight;
  });
  return Promise.allSettled(seen.map((image) => image.decode()));
}

// Pictures that are not seen yet are fetched while nothing else happens, so that scrolling finds them there.
export function fetchAhead(root) {
  // What is seen comes first.
  window.setTimeout(() => fetchUnseen(root), WAIT_MS);
}

function fetchUnseen(root) {
  const waiting = [...root.querySelectorAll("img[loading=lazy]")].filter((image) => !image.complete);
  const next = () => {
    const image = waiting.shift();
    if (!image || !image.isConnected) return;
    const ahead = new Image();
    ahead.onload = next;
    ahead.onerror = next;
    ahead.src = image.src;
  };
  (window.requestIdleCallback ?? window.setTimeout)(next);
}
