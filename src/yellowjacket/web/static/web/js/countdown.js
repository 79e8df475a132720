// The seconds left of a long exposure and its lock-up, by the server's clock; a tone at the end if wanted.

const SOUND = "yellowjacket-sound";
let until = 0;
let lockup = 0;

export function startCountdown() {
  const sound = document.querySelector("[data-sound]");
  if (!sound) return;
  sound.checked = window.localStorage.getItem(SOUND) === "on";
  sound.addEventListener("change", () => window.localStorage.setItem(SOUND, sound.checked ? "on" : "off"));
  read();
  document.addEventListener("htmx:afterSwap", read);
  window.setInterval(() => tick(sound.checked), 250);
}

function read() {
  const busy = document.querySelector("[data-left]");
  until = busy ? window.performance.now() + 1000 * Number(busy.dataset.left) : 0;
  lockup = busy ? Number(busy.dataset.lockup) : 0;
}

function tick(audible) {
  const busy = document.querySelector("[data-left]");
  if (!busy || !until) return;
  const left = Math.max(0, Math.ceil((until - window.performance.now()) / 1000));
  const clock = (seconds) => `${Math.floor(seconds / 60)}:${String(seconds % 60).padStart(2, "0")}`;
  if (left > lockup) busy.textContent = `exposing, ${clock(left - lockup)} left${lockup ? `, then ${clock(lockup)} busy` : ""}`;
  else if (left > 0) busy.textContent = `locked up, ${clock(left)} left`;
  else {
    busy.textContent = "the camera is free";
    until = 0;
    if (audible) beep();
  }
}

function beep() {
  const context = new window.AudioContext();
  const tone = context.createOscillator();
  tone.frequency.value = 660;
  tone.connect(context.destination);
  tone.start();
  tone.stop(context.currentTime + 0.2);
}
