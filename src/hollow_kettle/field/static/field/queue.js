// The phone's log: an entry is kept here first, then sent, and forgotten only when it
// was acknowledged. Without network it waits; the page says how many are NOT SENT.

const form = document.querySelector("form[data-queue]");
const { openDB } = await import(form.dataset.idb);
const fresh = form.querySelector("[data-fields]").innerHTML;
const state = document.getElementById("not-sent");
const said = document.getElementById("said");
const opened = openDB("kettle", 1, {
  upgrade(base) {
    base.createObjectStore("entries", { keyPath: "key" });
  },
});

// No randomUUID where the page came by plain http.
function makeKey() {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  bytes[6] = (bytes[6] & 0x0f) | 0x40;
  bytes[8] = (bytes[8] & 0x3f) | 0x80;
  const hex = [...bytes].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return hex.replace(/^(.{8})(.{4})(.{4})(.{4})(.{12})$/, "$1-$2-$3-$4-$5");
}

function deviceName() {
  const kept = localStorage.getItem("device") ?? makeKey().slice(0, 8);
  localStorage.setItem("device", kept);
  return kept;
}

const fieldsOf = () =>
  Object.fromEntries(
    [...new FormData(form)].filter(([name, value]) => value !== "" && name !== "csrfmiddlewaretoken"),
  );

const chosen = (name, value) => {
  const option = form.querySelector(`[name="${name}"] option[value="${CSS.escape(value)}"]`);
  return option ? option.textContent.trim() : value;
};

// What an entry says, to be read out on the radio or typed at net control.
function words(entry) {
  const f = entry.fields;
  const unit = { volts: "V", amps: "A", amp_hours: "Ah out", gauge_pct: "%" };
  const read = Object.keys(unit).filter((name) => f[name]).map((name) => `${f[name]} ${unit[name]}`);
  const plain = {
    reading: () => `${f.tag} ${read.join(" ")}${f.volts ? ` ${(f.how ?? "").replace("_", " ")}` : ""}`,
    swap: () => `${entry.names.station} ${f.tag} in${f.tag_out ? ` ${f.tag_out} out` : ""}`,
    move: () => `${f.tag} ${f.to ? `to ${entry.names.to}` : "on the way"}`,
    station: () => `${entry.names.station} ${entry.names.what}`,
    source: () => `${entry.names.source} ${f.state}`,
    panel: () =>
      [f.sky ? `sky ${entry.names.sky}` : "", f.amps ? `panels ${entry.names.panels} ${f.amps} A` : ""]
        .filter(Boolean)
        .join(", "),
    fault: () => `fault ${entry.names.station ?? ""} ${f.tag ?? ""} ${entry.names.symptom}`,
    note: () => `note: ${f.text}`,
  };
  const text = f.text && entry.what !== "note" ? `: ${f.text}` : "";
  const at = f.taken ? f.taken : new Date(entry.typed_at).toTimeString().slice(0, 5);
  return entry.what === "note" ? plain.note() : `${plain[entry.what]()} at ${at}${text}`;
}

async function show() {
  const entries = await (await opened).getAll("entries");
  state.hidden = entries.length === 0;
  state.querySelector("b").textContent = `${entries.length} NOT SENT`;
  state.querySelector("pre").textContent = entries.map(words).join("\n");
  localStorage.setItem("not-sent", String(entries.length));
}

let isSending = false;

// The entry that is asked about: it stays here until its author answers. Left open when
// the page goes, it is sent as it is, for a coordinator to look at.
let questioned = "";

// `asked`: the entry whose author is here to answer what is odd about it.
async function send(asked = "") {
  const base = await opened;
  const kept = (await base.getAll("entries")).filter((one) => one.key !== questioned);
  const entries = kept.slice(0, 50);
  if (isSending || !entries.length) return show();
  isSending = true;
  try {
    for (const url of new Set(entries.map((one) => one.url))) {
      await sendTo(base, url, entries.filter((one) => one.url === url), asked);
    }
  } catch {
    window.setTimeout(() => send(), 5000);
  }
  isSending = false;
  return show();
}

async function sendTo(base, url, kept, asked) {
  const entries = kept.map((one) => ({ ...one, late: one.key !== asked }));
  const headers = JSON.parse(document.body.getAttribute("hx-headers"));
  const cookie = document.cookie.match(/csrftoken=([^;]+)/)?.[1];
  const answer = await fetch(url, {
    method: "POST",
    headers: { ...headers, ...(cookie ? { "X-CSRFToken": cookie } : {}), "Content-Type": "application/json" },
    body: JSON.stringify({ v: 1, device: deviceName(), sent_at: new Date().toISOString(), entries }),
  });
  if (answer.redirected || answer.status === 401 || answer.status === 403) {
    tell("Sign in again to send what is kept here; nothing is lost.", true);
    throw new Error("not signed in");
  }
  if (!answer.ok) throw new Error(answer.statusText);
  const { answers } = await answer.json();
  for (const one of answers) {
    if (!one.kept) {
      questioned = one.key;
      ask(one);
      continue;
    }
    await base.delete("entries", one.key);
    if (one.key === asked) done(one.words);
    else tell(one.words);
  }
}

function tell(text, isTrouble = false) {
  said.textContent = text;
  said.classList.toggle("message-warning", isTrouble);
  said.hidden = false;
}

// Saved: the form is ready for the next one.
function done(text) {
  tell(text);
  form.querySelector("[data-fields]").innerHTML = fresh;
}

// Something is odd, and somebody is here to answer: the form comes back with it.
function ask(one) {
  const fields = document.createElement("template");
  fields.innerHTML = one.form;
  form.querySelector("[data-fields]").replaceChildren(fields.content);
  tell("Not saved yet: please look at what is marked.", true);
  form.scrollIntoView();
  if (one.stop) stop(one.stop);
}

// What must not be done fills the page until somebody has read it.
function stop(html) {
  const page = document.createElement("dialog");
  page.className = "full-stop";
  page.innerHTML = html;
  document.body.append(page);
  page.addEventListener("close", () => page.remove());
  page.showModal();
}

async function keep() {
  const fields = fieldsOf();
  const names = Object.fromEntries(Object.entries(fields).map(([name, value]) => [name, chosen(name, value)]));
  const entry = {
    key: makeKey(),
    url: form.dataset.queue,
    what: form.dataset.what,
    author: form.dataset.author,
    typed_at: new Date().toISOString(),
    fields,
    names,
  };
  const base = await opened;
  await base.put("entries", entry);
  if (questioned) {
    await base.delete("entries", questioned);
    questioned = "";
  }
  await send(entry.key);
  if (entry.key !== questioned && (await base.get("entries", entry.key))) {
    done("Kept on this phone. It is sent when there is network.");
  }
}

// The page starts without network where the browser allows it: by https, or on the
// server's own machine.
async function stayAtHand() {
  if (!("serviceWorker" in navigator) || !window.isSecureContext) {
    document.getElementById("stay").hidden = false;
    return;
  }
  await navigator.serviceWorker.register(form.dataset.worker, { scope: "/field/" });
  const { active } = await navigator.serviceWorker.ready;
  const pages = [...document.querySelectorAll("a.big-key")].map((link) => link.pathname);
  active.postMessage({ keep: [...new Set([window.location.pathname, ...pages])] });
}

form.addEventListener("submit", (event) => {
  event.preventDefault();
  keep();
});
window.addEventListener("online", () => send());
window.setInterval(() => send(), 15000);
send();
stayAtHand();
