// The horizon on the sun sheet: dragged or moved by keys, kept as typed pairs.

const svg = document.getElementById("sky");
const box = document.getElementById("points");
const handles = document.getElementById("handles");

if (svg && box && handles) {
  const number = (name) => Number(svg.dataset[name]);
  const left = number("left"), width = number("width");
  const foot = number("height") - number("foot"), top = 8, middle = number("middle");
  const turn = (angle) => ((angle % 360) + 360) % 360;
  const across = (azimuth) => left + (turn(azimuth - middle + 180) / 360) * (width - left);
  const up = (height) => foot - (height / 90) * (foot - top);
  const round = (value) => Math.round(value * 2) / 2;

  let held = null;

  function read() {
    return [...handles.children]
      .map((dot) => [Number(dot.dataset.azimuth), Number(dot.dataset.elevation)])
      .sort((a, b) => a[0] - b[0]);
  }

  function heightAt(points, azimuth) {
    if (!points.length) return 0;
    const first = points[0], last = points[points.length - 1];
    const round = [[last[0] - 360, last[1]], ...points, [first[0] + 360, first[1]]];
    for (let i = 1; i < round.length; i += 1) {
      const [a, low] = round[i - 1], [b, high] = round[i];
      if (azimuth <= b) return b === a ? high : low + ((high - low) * (azimuth - a)) / (b - a);
    }
    return last[1];
  }

  function draw() {
    const points = read();
    box.value = points.map((pair) => pair.join(" ")).join("\n");
    const line = [`${left},${foot}`];
    for (let step = 0; step <= 360; step += 2) {
      const azimuth = turn(middle - 180 + step);
      const x = left + (step / 360) * (width - left);
      line.push(`${x.toFixed(1)},${up(heightAt(points, azimuth)).toFixed(1)}`);
    }
    line.push(`${width},${foot}`);
    for (const id of ["horizon", "horizon-hatch"]) {
      document.getElementById(id).setAttribute("points", line.join(" "));
    }
  }

  function put(dot, azimuth, height) {
    dot.dataset.azimuth = round(turn(azimuth));
    dot.dataset.elevation = Math.min(90, Math.max(0, round(height)));
    dot.setAttribute("cx", across(Number(dot.dataset.azimuth)));
    dot.setAttribute("cy", up(Number(dot.dataset.elevation)));
    dot.setAttribute("aria-valuenow", dot.dataset.elevation);
    dot.setAttribute("aria-label", `Height towards ${dot.dataset.azimuth}°`);
  }

  function add(azimuth, height) {
    const dot = document.createElementNS("http://www.w3.org/2000/svg", "circle");
    const fixed = { class: "handle", r: 6, tabindex: 0, role: "slider", "aria-valuemin": 0, "aria-valuemax": 90 };
    for (const [name, value] of Object.entries(fixed)) dot.setAttribute(name, value);
    put(dot, azimuth, height);
    handles.append(dot);
    return dot;
  }

  function at(event) {
    const frame = svg.getBoundingClientRect();
    const view = svg.viewBox.baseVal;
    const x = ((event.clientX - frame.left) / frame.width) * view.width;
    const y = ((event.clientY - frame.top) / frame.height) * view.height;
    return [
      middle - 180 + ((x - left) / (width - left)) * 360,
      ((foot - y) / (foot - top)) * 90,
    ];
  }

  svg.addEventListener("pointerdown", (event) => {
    const dot = event.target.closest(".handle");
    const [azimuth, height] = at(event);
    if (!dot && (height < 0 || height > 90)) return;
    held = dot || add(azimuth, height);
    held.focus();
    svg.setPointerCapture(event.pointerId);
    event.preventDefault();
    draw();
  });
  svg.addEventListener("pointermove", (event) => {
    if (!held) return;
    put(held, ...at(event));
    draw();
  });
  svg.addEventListener("pointerup", () => { held = null; });
  svg.addEventListener("keydown", (event) => {
    const dot = event.target.closest(".handle");
    const moves = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] };
    if (!dot) return;
    if (event.key === "Delete" || event.key === "Backspace") {
      dot.remove();
    } else if (moves[event.key]) {
      const [side, rise] = moves[event.key];
      put(dot, Number(dot.dataset.azimuth) + side, Number(dot.dataset.elevation) + rise);
    } else return;
    event.preventDefault();
    draw();
  });
  box.addEventListener("input", () => {
    const pairs = box.value.split("\n").map((line) => line.trim().split(/[\s;]+/).map((word) => Number(word.replace(",", "."))));
    const good = pairs.filter((pair) => pair.length === 2 && pair.every(Number.isFinite));
    const typed = box.value;
    handles.replaceChildren();
    for (const [azimuth, height] of good) add(azimuth, height);
    draw();
    box.value = typed;
  });
}
