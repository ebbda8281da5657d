// The remote in the seat: forwards presses, keeps the screen awake, tells by touch and a soft tone when something is done.
const token = document.querySelector('meta[name="csrf-token"]')?.content;
document.addEventListener("htmx:config:request", (event) => { event.detail.ctx.request.headers["X-CSRFToken"] = token; });

const shown = () => ({ take: document.querySelector("[data-take]")?.dataset.take, spot: document.querySelector("[data-spot]")?.dataset.spot });
let before = shown(), audio = null;

function tone(hertz) {
  if (!audio) return;
  const sound = audio.createOscillator(), level = audio.createGain();
  sound.frequency.value = hertz;
  level.gain.setValueAtTime(0.06, audio.currentTime);
  level.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + 0.3);
  sound.connect(level).connect(audio.destination);
  sound.start();
  sound.stop(audio.currentTime + 0.35);
}

// Sound and a screen that stays on need a touch first.
async function awake() {
  audio ??= new AudioContext();
  try { await navigator.wakeLock?.request("screen"); } catch { /* the page says that it may sleep */ }
}
document.addEventListener("pointerdown", awake, { once: true });
document.addEventListener("visibilitychange", () => { if (document.visibilityState === "visible" && audio) awake(); });

// What can't be reached says so, and goes on by itself as soon as it can.
document.addEventListener("htmx:error", () => {
  const words = document.querySelector("[data-awake]");
  if (words) words.textContent = "No connection. A take that plays is finished; then it waits.";
});
document.addEventListener("htmx:after:swap", () => {
  const now = shown();
  if (now.take !== before.take) navigator.vibrate?.(60);
  // A tone only where nothing plays: it must never sound into a take.
  if (now.spot !== before.spot && !document.querySelector(".playing")) { navigator.vibrate?.([80, 60, 80]); tone(660); }
  before = now;
});
