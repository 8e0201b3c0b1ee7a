// The Shelf's own behaviour: ticks that wait for the network, fields by kind.

document.addEventListener("alpine:init", () => {
  // Ticks of a packing list. What can't be sent now waits on this page.
  window.Alpine.data("packing", () => ({
    waiting: 0,
    said: "",
    tick(event) {
      const key = event.currentTarget;
      const isOn = key.dataset.on === "1";
      key.dataset.on = isOn ? "0" : "1";
      key.setAttribute("aria-pressed", String(isOn));
      key.closest("li").classList.toggle("is-packed", isOn);
      queue.push([key.dataset.tick, key.dataset.value, isOn ? "1" : "0"]);
      this.send();
    },
    async send() {
      this.waiting = queue.length;
      this.said = `${queue.length} NOT SENT`;
      if (isSending) return;
      isSending = true;
      let page = "";
      try {
        while (queue.length) {
          page = await post(queue[0]);
          queue.shift();
        }
      } catch {
        window.setTimeout(() => this.send(), 4000);
      }
      isSending = false;
      this.waiting = queue.length;
      if (page && !queue.length) show(page);
    },
  }));

  // Only the fields that count for what is chosen.
  window.Alpine.data("byKind", () => ({
    init() {
      const form = this.$root;
      const counts = JSON.parse(form.dataset.counts);
      const chooser = form.querySelector(`[name="${form.dataset.by}"]`);
      const every = new Set(Object.values(counts).flat());
      const apply = () => {
        const wanted = new Set(counts[chooser.value] || []);
        for (const name of every) {
          const field = form.querySelector(`[name="${name}"]`)?.closest(".field");
          if (field) field.hidden = !wanted.has(name);
        }
      };
      chooser.addEventListener("change", apply);
      apply();
    },
  }));
});

const queue = [];
let isSending = false;

async function post([what, value, on]) {
  const headers = JSON.parse(document.body.getAttribute("hx-headers"));
  const body = new URLSearchParams({ [what]: value, on });
  const response = await fetch(`${window.location.pathname}tick/`, {
    method: "POST",
    headers: { ...headers, "HX-Request": "true" },
    body,
  });
  if (!response.ok) throw new Error(response.statusText);
  return response.text();
}

function show(page) {
  const fresh = document.createElement("template");
  fresh.innerHTML = page;
  document.getElementById("packing").replaceWith(fresh.content);
}

window.addEventListener("beforeunload", (event) => {
  if (queue.length) event.preventDefault();
});
