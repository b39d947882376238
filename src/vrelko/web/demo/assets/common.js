// What all views share: elements, requests, and how values are written.

export const slow = { ms: 0 };

export function h(tag, props = {}, ...children) {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(props)) {
    if (value === null || value === undefined || value === false) continue;
    if (name.startsWith("on")) element.addEventListener(name.slice(2), value);
    else if (name === "text") element.textContent = value;
    else element.setAttribute(name, value === true ? "" : value);
  }
  element.append(...children.filter((child) => child !== null && child !== undefined));
  return element;
}

export class Trouble extends Error {
  constructor(detail, todo, status = 0) {
    super(detail);
    this.todo = todo;
    this.status = status;
  }

  // Whether the request itself is at fault: asking again gives the same.
  get ours() {
    return this.status === 400;
  }
}

// What an address may hold; the rest, such as what a mail program adds, is left out.
const KNOWN = ["page", "size", "cursor", "sort", "search", "species", "station", "status", "period"];

export function readQuery(positions = KNOWN) {
  const found = new URLSearchParams(location.search);
  for (const name of [...found.keys()]) if (!positions.includes(name)) found.delete(name);
  return found;
}

export function pause(ms, signal) {
  return new Promise((done, fail) => {
    const timer = setTimeout(done, ms);
    signal?.addEventListener("abort", () => {
      clearTimeout(timer);
      fail(new DOMException("given up", "AbortError"));
    });
  });
}

export async function ask(url, { signal, method = "GET", body } = {}) {
  if (slow.ms) await pause(slow.ms, signal);
  const headers = { accept: "application/json" };
  if (body !== undefined) headers["content-type"] = "application/json";
  let answer;
  try {
    answer = await fetch(url, {
      signal, method, headers, body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch (error) {
    if (error.name === "AbortError") throw error;
    throw new Trouble("The server cannot be reached.", "Nothing is lost.");
  }
  if (answer.status === 204) return null;
  const found = await answer.json().catch(() => ({}));
  if (!answer.ok) throw new Trouble(found.detail ?? `The server said ${answer.status}.`, found.todo ?? "", answer.status);
  return found;
}

export const count = new Intl.NumberFormat("en");

export function moment(text) {
  return text.slice(0, 10) + " " + text.slice(11, 16);
}

export const STATUSES = ["new", "waiting", "queried", "checked", "duplicate"];

// What went wrong, with a way to try again; null takes it away.
export function tellTrouble(place, trouble, again) {
  place.replaceChildren();
  place.hidden = !trouble;
  if (!trouble) return;
  const text = `${trouble.message.replace(/\.?$/, ".")} ${trouble.todo ?? ""}`.trim();
  const label = trouble.ours ? "Start again" : "Try again";
  place.append(h("span", { text }), h("button", { type: "button", text: label, onclick: again }));
}

let choices;
export function choicesOf(name) {
  choices ??= {};
  choices[name] ??= ask(`/data/${name}`).then((found) => found.choices).catch((error) => {
    delete choices[name];
    throw error;
  });
  return choices[name];
}

// Selects for species, station and status; `changed` is told of each choice.
export function filterFields(query, changed) {
  const field = (name, label, options) => {
    const select = h("select", { name, onchange: () => changed(name, select.value) },
      h("option", { value: "", text: "all" }));
    const fill = (found) => {
      for (const one of found) select.append(h("option", { value: one.value, text: one.label }));
      select.value = query.get(name) ?? "";
    };
    options.then(fill).catch(() => {});
    return h("label", {}, label, select);
  };
  const statuses = STATUSES.map((label, value) => ({ value, label }));
  return [
    field("species", "Species", choicesOf("species")),
    field("station", "Station", choicesOf("stations")),
    field("status", "Status", Promise.resolve(statuses)),
  ];
}

export function isPlainClick(event) {
  return event.button === 0 && !event.metaKey && !event.ctrlKey && !event.shiftKey && !event.altKey;
}
