// Plays what the server has rendered: all at one place, one of them heard, switched without a click. Computes no sound.
const FADE_S = 0.02;
let audio = null, shown = null;                     // the context; the player that stands on the page
const player = { urls: [], buffers: [], sources: [], gains: [], began: 0, at: 0, chosen: 0, playing: false, load: 0 };

const page = () => document.querySelector("[data-player]");
const buttons = () => [...(page()?.querySelectorAll("[data-sound]") ?? [])];
const length = () => player.buffers[0]?.duration ?? 0;
const place = () => (player.playing ? (audio.currentTime - player.began) % length() : player.at);

async function decoded(url) {
  const answer = await fetch(url);
  if (!answer.ok) throw new Error(answer.status === 404 ? "gone: reload the page" : `${answer.status}`);
  return audio.decodeAudioData(await answer.arrayBuffer());
}

// A page may come again with the same sounds, others, or none.
async function follow() {
  const urls = buttons().map((button) => button.dataset.sound);
  shown = page();
  if (!urls.length) { halt(); player.urls = []; return; }
  if (urls.join() === player.urls.join()) { paint(); return; }
  audio ??= new AudioContext();
  const turn = ++player.load, was = player.playing, at = place();
  player.urls = urls;
  paint("loading");
  try {
    // What is the same as before is kept.
    const before = new Map(player.sources.length || player.buffers.length ? player.kept : []);
    const buffers = await Promise.all(urls.map((url) => before.get(url) ?? decoded(url)));
    if (turn !== player.load) return;
    halt();
    player.kept = urls.map((url, k) => [url, buffers[k]]);
    player.buffers = buffers;
    player.at = at % (buffers[0].duration || 1);
    player.chosen = Math.min(player.chosen, buffers.length - 1);
    if (was) begin();
    paint();
  } catch (error) {
    if (turn === player.load) paint(`not loaded: ${error.message}`);
  }
}

function begin() {
  audio.resume();
  const from = audio.currentTime + 0.05;
  player.sources = player.buffers.map((buffer, k) => {
    const source = audio.createBufferSource(), gain = audio.createGain();
    source.buffer = buffer;
    source.loop = true;
    gain.gain.setValueAtTime(0, audio.currentTime);
    gain.gain.linearRampToValueAtTime(k === player.chosen ? 1 : 0, from + FADE_S);
    source.connect(gain).connect(audio.destination);
    source.start(from, player.at);
    player.gains[k] = gain.gain;
    return source;
  });
  player.began = from - player.at;
  player.playing = true;
}

function halt() {
  if (!player.playing) return;
  player.at = place();
  const now = audio.currentTime;
  player.gains.forEach((gain) => { gain.cancelScheduledValues(now); gain.setValueAtTime(gain.value, now); gain.linearRampToValueAtTime(0, now + FADE_S); });
  player.sources.forEach((source) => source.stop(now + FADE_S));
  player.playing = false;
}

function choose(k) {
  if (k < 0 || k >= player.buffers.length) return;
  player.chosen = k;
  if (player.playing) {
    const now = audio.currentTime;
    player.gains.forEach((gain, n) => { gain.cancelScheduledValues(now); gain.setValueAtTime(gain.value, now); gain.linearRampToValueAtTime(n === k ? 1 : 0, now + FADE_S); });
  }
  paint();
}

function toggle() {
  if (!player.buffers.length) return;
  if (player.playing) halt(); else begin();
  paint();
}

function paint(words) {
  const card = page();
  if (!card) return;
  const ready = player.buffers.length === player.urls.length && !words;
  card.dataset.playerState = words ?? (player.playing ? "playing" : "ready");
  const switcher = card.querySelector("[data-player-toggle]");
  switcher.disabled = !ready;
  switcher.firstChild.textContent = player.playing ? "Pause " : "Play ";
  card.querySelector("[data-player-words]").textContent = words ?? "";
  buttons().forEach((button, k) => button.setAttribute("aria-pressed", String(k === player.chosen)));
}

function tick() {
  const card = page();
  if (card !== shown) follow();
  if (card && player.playing) {
    card.querySelector("[data-player-place]").value = place();
    card.querySelector("[data-player-words]").textContent = `${place().toFixed(1)} of ${length().toFixed(1)} s`;
  }
  requestAnimationFrame(tick);
}

export function startListening() {
  document.addEventListener("click", (event) => {
    const button = event.target.closest?.("[data-sound]");
    if (button) choose(buttons().indexOf(button));
    if (event.target.closest?.("[data-player-toggle]")) toggle();
    if (event.target.closest?.("[data-stop-sound]") && player.playing) toggle();
  });
  document.addEventListener("keydown", (event) => {
    if (!page() || event.ctrlKey || event.metaKey || event.altKey || event.target.matches?.("input:not([type=range]):not([type=checkbox]), textarea, select")) return;
    if (/^[1-9]$/.test(event.key)) choose(Number(event.key) - 1);
    if (event.key.toLowerCase() === "p") toggle();
  });
  // A slide says its number while it is moved.
  document.addEventListener("input", (event) => {
    const said = event.target.dataset?.shows && event.target.parentNode.querySelector("output");
    if (said) said.textContent = `${event.target.value} ${event.target.dataset.shows}`;
  });
  document.addEventListener("htmx:after:swap", follow);
  follow();
  requestAnimationFrame(tick);
}
