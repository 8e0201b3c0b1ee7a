{% load static %}{# What the phone's page needs without network, and how it is found then. #}
const name = "kettle";
const parts = [
  "{% static "ui/built/kettle.css" %}",
  "{% static "ui/built/htmx.js" %}",
  "{% static "ui/built/alpine-csp.js" %}",
  "{% static "ui/built/idb.js" %}",
  "{% static "ui/js/frame.js" %}",
  "{% static "field/queue.js" %}",
  "{% static "field/scan.js" %}",
  "{% static "ui/built/jsqr.js" %}",
  "{% static "ui/kettle.svg" %}",
];

self.addEventListener("install", (event) => {
  event.waitUntil(caches.open(name).then((kept) => kept.addAll(parts)).then(() => self.skipWaiting()));
});

self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

// The page for logging, and what it loads: from the network, else as it was last.
const isKept = (url) => /^\/field\/[^/]+\/log\/[a-z]+\/$/.test(url.pathname) || url.pathname.startsWith("/static/");

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "GET" || url.origin !== self.location.origin || !isKept(url)) return;
  event.respondWith(
    fetch(event.request)
      .then((answer) => {
        if (answer.ok && !answer.redirected) {
          const copy = answer.clone();
          event.waitUntil(caches.open(name).then((kept) => kept.put(url.pathname, copy)));
        }
        return answer;
      })
      .catch(async () => (await caches.match(url.pathname)) ?? (await caches.match(event.request)) ?? Response.error()),
  );
});

// Somebody signed out: nothing of the club stays on the phone.
self.addEventListener("message", (event) => {
  if (event.data === "forget") event.waitUntil(caches.delete(name));
  if (event.data.keep) event.waitUntil(Promise.all(event.data.keep.map(keep)));
});

async function keep(path) {
  const answer = await fetch(path);
  if (answer.ok && !answer.redirected) await (await caches.open(name)).put(path, answer);
}
