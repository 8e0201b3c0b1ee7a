// The log line: Enter logs, arrows go through what was typed before.

const kept = "log-lines";
const most = 30;

const read = () => JSON.parse(sessionStorage.getItem(kept) || "[]");

function keep(line) {
  const lines = read().filter((one) => one !== line);
  sessionStorage.setItem(kept, JSON.stringify([...lines, line].slice(-most)));
}

let at = null;

document.addEventListener("keydown", (event) => {
  const line = event.target.closest?.("textarea[data-log-line]");
  if (!line) return;
  if (event.key === "Enter" && !event.shiftKey) {
    event.preventDefault();
    line.form.requestSubmit(line.form.querySelector(".line > button"));
  } else if (["ArrowUp", "ArrowDown"].includes(event.key) && !line.value.includes("\n")) {
    const lines = read();
    if (!lines.length) return;
    event.preventDefault();
    at = (at ?? lines.length) + (event.key === "ArrowUp" ? -1 : 1);
    at = Math.max(0, Math.min(lines.length, at));
    line.value = lines[at] ?? "";
    line.dispatchEvent(new Event("input", { bubbles: true }));
  }
});

document.addEventListener("submit", (event) => {
  const line = event.target.querySelector?.("textarea[data-log-line]");
  if (line?.value.trim()) keep(line.value.trim());
  at = null;
});
