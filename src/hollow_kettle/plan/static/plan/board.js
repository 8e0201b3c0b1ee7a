// The rotation board: a chosen battery's way lights up, arrows walk along it.

const board = document.getElementById("board");

function choose(leg) {
  if (!leg) return;
  const battery = leg.dataset.battery;
  board.classList.add("has-chosen");
  for (const part of board.querySelectorAll("[data-battery]")) {
    part.classList.toggle("is-chosen", part.dataset.battery === battery);
    part.classList.remove("is-at");
  }
  leg.classList.add("is-at");
  ask(leg);
}

// Why this battery, why now: asked once the choice stays for a moment.
let asking;
function ask(leg) {
  clearTimeout(asking);
  if (!leg.dataset.why || !document.getElementById("why")) return;
  asking = setTimeout(
    () => htmx.ajax("GET", leg.dataset.why, { target: "#why", swap: "outerHTML" }),
    250,
  );
}

function clear() {
  board.classList.remove("has-chosen");
  for (const part of board.querySelectorAll(".is-chosen, .is-at")) {
    part.classList.remove("is-chosen", "is-at");
  }
}

function walk(step) {
  const at = board.querySelector(".is-at");
  const legs = [...board.querySelectorAll(".leg")].sort(
    (a, b) => a.dataset.number - b.dataset.number,
  );
  if (!at) return choose(legs[0]);
  const next = legs[legs.indexOf(at) + step];
  if (next) choose(next);
}

if (board) {
  board.addEventListener("click", (event) => {
    const leg = event.target.closest(".leg");
    leg ? choose(leg) : clear();
  });
  board.addEventListener("keydown", (event) => {
    if (event.key === "ArrowRight" || event.key === "ArrowLeft") {
      event.preventDefault();
      walk(event.key === "ArrowRight" ? 1 : -1);
    } else if (event.key === "Escape") clear();
    else if (event.key === "p" && localStorage.getItem("keys") !== "off") {
      document.querySelector("#why [data-pin]")?.click();
    }
  });
}

// A plan made at once is worked out further meanwhile: the page is shown anew with what
// comes of that, unless somebody is typing.
const further = document.querySelector("#further[data-poll]");
if (further) {
  const asks = setInterval(async () => {
    if (document.activeElement?.matches("input, select, textarea")) return;
    try {
      const answer = await fetch(further.dataset.poll, { headers: { "HX-Request": "true" } });
      if (!answer.headers.get("HX-Refresh")) return;
      clearInterval(asks);
      location.reload();
    } catch {
      // The page is being left, or the network is away: asked again, if it stays.
    }
  }, 2000);
}
