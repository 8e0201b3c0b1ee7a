// The frame's own behaviour: light, keys, dialogs, local time or UTC.

const root = document.documentElement;
const rooms = { 1: "shelf", 2: "plan", 3: "field", 4: "debrief" };

function setLight(light) {
  root.dataset.light = light;
  document.cookie = `light=${light};path=/;max-age=31536000;samesite=lax`;
}

function flipClock() {
  const next = root.dataset.clock === "utc" ? "local" : "utc";
  root.dataset.clock = next;
  showTimes(document);
}

function showTimes(scope) {
  const key = root.dataset.clock;
  for (const time of scope.querySelectorAll("time[data-local]")) {
    time.textContent = time.dataset[key];
  }
}

function open(id) {
  const dialog = document.getElementById(id);
  if (!dialog || dialog.open) return;
  dialog.showModal();
  dialog.querySelector("input[type=search]")?.focus();
}

const keysOn = () => localStorage.getItem("keys") !== "off";

function isTyping(target) {
  return target.closest("input, textarea, select, [contenteditable]") !== null;
}

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return;
  if (event.key === "?") return open("keys");
  if (!keysOn() || document.querySelector("dialog[open]")) return;
  if (event.key in rooms) {
    document.querySelector(`.rail-room[data-key="${event.key}"]`)?.click();
  } else if (event.key === "/") {
    event.preventDefault();
    open("finder");
  } else if (event.key === "n") {
    const first = document.querySelector("[data-log-line]");
    if (first) {
      event.preventDefault();
      first.focus();
    }
  } else if (event.key === "u") {
    flipClock();
  }
});

document.addEventListener("click", (event) => {
  const opener = event.target.closest("[data-open]");
  if (opener) open(opener.dataset.open);
  if (event.target.closest("[data-print]")) window.print();
});

// What a phone has not sent yet is not left behind by signing out.
document.addEventListener("submit", (event) => {
  if (!event.target.action?.endsWith("/sign-out/")) return;
  const count = Number(localStorage.getItem("not-sent") ?? 0);
  if (count > 0) {
    event.preventDefault();
    const said = document.createElement("p");
    said.className = "message message-warning";
    said.textContent = `${count} NOT SENT: open the log where there is network, then sign out.`;
    document.getElementById("canvas").prepend(said);
  } else {
    navigator.serviceWorker?.controller?.postMessage("forget");
  }
});

// What takes a while says so on its button.
document.addEventListener("submit", (event) => {
  const busy = event.submitter?.dataset.busy;
  if (busy) {
    event.submitter.textContent = busy;
    event.submitter.setAttribute("aria-busy", "true");
  }
});

document.addEventListener("change", (event) => {
  if (event.target.id === "light") setLight(event.target.value);
  if (event.target.matches("[data-density]") && event.target !== root) {
    root.dataset.density = event.target.value;
    document.cookie = `density=${event.target.value};path=/;max-age=31536000;samesite=lax`;
  }
  if (event.target.matches("[data-sound]")) {
    localStorage.setItem("sound", event.target.checked ? "on" : "off");
    if (event.target.checked) beep();
  }
  if (event.target.id === "keys-on") {
    localStorage.setItem("keys", event.target.checked ? "on" : "off");
  }
});

// Alarms that nobody took on are counted in the tab's title; a new one may sound.
let alarmsBefore = Infinity;

function showAlarms() {
  const live = document.querySelector("[data-alarms]");
  if (!live) return;
  const count = Number(live.dataset.alarms);
  const plain = document.title.replace(/^\(\d+\) /, "");
  document.title = count ? `(${count}) ${plain}` : plain;
  const sound = live.querySelector("[data-sound]");
  if (sound) sound.checked = localStorage.getItem("sound") === "on";
  if (count > alarmsBefore && sound?.checked) beep();
  alarmsBefore = count;
}

function beep() {
  const audio = new AudioContext();
  for (const [start, pitch] of [[0, 660], [0.25, 520], [0.5, 660]]) {
    const tone = audio.createOscillator();
    tone.frequency.value = pitch;
    tone.connect(audio.destination);
    tone.start(audio.currentTime + start);
    tone.stop(audio.currentTime + start + 0.18);
  }
}

// What has to be scrolled sideways is a stop of the keyboard; what fits is none.
function reachScrollers() {
  for (const one of document.querySelectorAll(".scroll, .prose pre, main .section")) {
    const isWide = one.scrollWidth > one.clientWidth + 1 &&
      getComputedStyle(one).overflowX === "auto";
    if (isWide === one.hasAttribute("tabindex")) continue;
    const says = { tabindex: "0" };
    if (!one.hasAttribute("aria-labelledby"))
      Object.assign(says, { role: "group", "aria-label": "Scrolls sideways" });
    for (const [name, value] of Object.entries(says)) {
      if (isWide) one.setAttribute(name, value);
      else one.removeAttribute(name);
    }
  }
}

window.addEventListener("resize", reachScrollers);
document.addEventListener("toggle", reachScrollers, true);
document.addEventListener("htmx:afterSwap", (event) => {
  showTimes(event.target);
  showAlarms();
  reachScrollers();
});
showAlarms();
reachScrollers();

// What was sent and not taken is said; what only asks again by itself is not.
const REFUSED = {
  403: "You may not do this, or were signed out meanwhile. Reload the page.",
  409: "The same was saved a moment ago, or what you were changing is gone. Reload the page.",
  503: "Not saved: the database does not answer. It is started again by itself; try again in a few seconds.",
  507: "Not saved: the disk of the server is full. What was saved before is safe and can be read.",
};
const sayRefused = (event) => {
  const { requestConfig, xhr } = event.detail;
  if (!requestConfig || requestConfig.verb === "get") return;
  document.getElementById("refused")?.remove();
  const line = document.createElement("p");
  line.id = "refused";
  line.className = "message message-error";
  line.setAttribute("role", "alert");
  line.textContent =
    REFUSED[xhr?.status] ??
    (xhr?.status ? "Not saved: something went wrong, and it isn't your fault. Try again." : "Not saved: the server can't be reached. Try again when the network is back.");
  document.getElementById("canvas")?.prepend(line);
  line.scrollIntoView({ block: "nearest" });
};
document.addEventListener("htmx:responseError", sayRefused);
document.addEventListener("htmx:sendError", sayRefused);

// On paper the tables behind the drawings are wanted too.
const folded = () => document.querySelectorAll("main details:not([open])");
window.addEventListener("beforeprint", () => {
  for (const details of folded()) {
    details.open = true;
    details.dataset.forPrint = "";
  }
});
window.addEventListener("afterprint", () => {
  for (const details of document.querySelectorAll("details[data-for-print]")) {
    details.open = false;
    delete details.dataset.forPrint;
  }
});

const toggle = document.getElementById("keys-on");
if (toggle) toggle.checked = keysOn();

document.addEventListener("alpine:init", () => {
  // Quick filter: hides the rows whose text doesn't hold what is typed.
  window.Alpine.data("quickFilter", () => ({
    typed: "",
    count: "",
    init() {
      this.$watch("typed", () => this.apply());
    },
    apply() {
      const words = this.typed.toLowerCase().split(/\s+/).filter(Boolean);
      let shown = 0;
      for (const row of this.$root.querySelectorAll("[data-row]")) {
        const text = row.textContent.toLowerCase();
        row.hidden = !words.every((word) => text.includes(word));
        shown += row.hidden ? 0 : 1;
      }
      this.count = words.length ? `${shown} shown` : "";
    },
  }));
});
