// The grid: numbered pages. Its position, order and filters live in the address.

import { STATUSES, ask, count, filterFields, h, isPlainClick, moment, readQuery, tellTrouble } from "./common.js";

const COLUMNS = [
  { name: "ring", label: "Ring", sorts: ["ring", "-ring"] },
  { name: "species", label: "Species" },
  { name: "station", label: "Station", wide: true },
  { name: "caught_at", label: "Caught", sorts: ["-caught_at", "caught_at"], write: moment },
  { name: "weight_g", label: "Weight, g", sorts: ["-weight_g:nulls-last", "weight_g:nulls-last"], number: true },
  { name: "status", label: "Status", write: (value) => STATUSES[value], wide: true },
];
const USUAL = "-caught_at";
const POSITIONS = ["page", "cursor"];
const FRESH_MS = 15000;

export function openGrid(root) {
  let query = readAddress();
  let turn = 0;
  let stopped = null;
  let ahead = null; // the next page, asked for before it is wanted
  let shown = null;

  const filters = h("form", { class: "filters", onsubmit: (event) => event.preventDefault() });
  const search = h("input", { type: "search", name: "search", placeholder: "L10…", autocomplete: "off", value: query.get("search") ?? "" });
  const size = h("select", { name: "size", "aria-label": "Rows per page" });
  for (const rows of [10, 25, 50, 100]) size.append(h("option", { value: rows, text: `${rows} rows` }));
  const month = h("select", { name: "period", onchange: () => change("period", month.value) });
  const around = h("ul", { class: "around", "aria-label": "Nearby periods", hidden: true });
  let listed = null; // the filters that the months are listed for
  const head = h("tr");
  const body = h("tbody");
  const trouble = h("div", { class: "trouble", role: "alert", hidden: true });
  const table = h("table", {}, h("caption", { class: "unseen", text: "Captures" }), h("thead", {}, head), body);
  const frame = h("div", { class: "rows", tabindex: -1 }, table);
  const links = h("ul", { class: "strip" });
  const place = h("p", { class: "place", role: "status" });
  const jump = h("input", { type: "number", min: 1, name: "jump", inputmode: "numeric", "aria-label": "Page number" });
  const go = h("form", { class: "jump", onsubmit: leap }, h("label", {}, "Page", jump), h("button", { text: "Go" }));
  const note = h("p", { class: "note", role: "status" });
  root.append(filters, trouble, around, frame, h("nav", { class: "pages", "aria-label": "Pages" }, links, go, size, place), note);

  let typing;
  search.addEventListener("input", () => {
    clearTimeout(typing);
    typing = setTimeout(() => change("search", search.value.trim()), 250);
  });
  size.addEventListener("change", () => resize(size.value));
  drawFilters();

  function readAddress() {
    return readQuery();
  }

  function addressOf(asked) {
    const text = asked.toString();
    return "?view=grid" + (text ? "&" + text : "");
  }

  function drawFilters() {
    filters.replaceChildren(...filterFields(query, change), h("label", {}, "Month", month), h("label", {}, "Ring", search));
    size.value = query.get("size") ?? "25";
    search.value = query.get("search") ?? "";
  }

  // The months that have rows under the filters in force; one that is asked for stays in the list.
  async function listMonths() {
    const asked = new URLSearchParams(query);
    for (const one of [...POSITIONS, "size", "sort", "period"]) asked.delete(one);
    const key = asked.toString();
    if (key === listed) return (month.value = query.get("period") ?? "");
    try {
      const found = await ask("/data/captures/periods?unit=month" + (key ? "&" + key : ""));
      const labels = found.periods.map((one) => one.label);
      const now = query.get("period") ?? "";
      if (now && !labels.includes(now)) labels.unshift(now);
      month.replaceChildren(h("option", { value: "", text: "all" }), ...labels.map((label) => h("option", { value: label, text: label })));
      month.value = now;
      listed = key;
    } catch {
      listed = null; // the rows tell what is wrong
    }
  }

  function drawPeriod(page) {
    around.hidden = !page.period;
    if (!page.period) return around.replaceChildren();
    const { label, earlier, later } = page.period;
    const step = (one, text) => h("li", {}, one ? anchor(one.url, { text: `${text} ${one.label}` }) : h("span", { class: "off", "aria-disabled": "true", text }));
    around.replaceChildren(step(earlier, "Earlier:"), h("li", {}, h("span", { class: "current", "aria-current": "true", text: label })), step(later, "Later:"));
  }

  // A change of filter, search or order begins at the first page.
  function change(name, value) {
    const next = new URLSearchParams(query);
    for (const one of POSITIONS) next.delete(one);
    if (name === "search" && Boolean(value) !== Boolean(query.get("search"))) next.delete("sort");
    if (value) next.set(name, value);
    else next.delete(name);
    load(next);
  }

  // Another size keeps the first row that is seen.
  function resize(rows) {
    const self = shown ? new URL(shown.links.self, location.origin).searchParams : query;
    const next = new URLSearchParams(self);
    next.set("size", rows);
    load(next);
  }

  function leap(event) {
    event.preventDefault();
    const number = Number.parseInt(jump.value, 10);
    if (!(number >= 1)) return;
    const next = new URLSearchParams(query);
    for (const one of POSITIONS) next.delete(one);
    if (number > 1) next.set("page", number);
    load(next);
  }

  async function load(asked, { push = true } = {}) {
    const mine = ++turn;
    stopped?.abort();
    const control = (stopped = new AbortController());
    const before = query;
    query = asked;
    if (push) history.pushState(null, "", addressOf(asked));
    frame.classList.add("old");
    frame.setAttribute("aria-busy", "true");
    tellTrouble(trouble, null);
    const url = "/data/captures" + (asked.size ? "?" + asked : "");
    try {
      const known = ahead?.url === url && performance.now() - ahead.at < FRESH_MS ? ahead : null;
      if (!known) ahead?.control.abort();
      const page = known ? await known.page : await ask(url, { signal: control.signal });
      if (mine !== turn) return; // a newer page has been asked for
      ahead = null;
      if (!page.rows.length && page.total.value > 0 && page.links.last) {
        return load(new URL(page.links.last, location.origin).searchParams, { push: false });
      }
      show(page);
    } catch (error) {
      if (mine !== turn || error.name === "AbortError") return;
      ahead = null;
      tellTrouble(trouble, error, () => load(error.ours ? new URLSearchParams() : asked, { push: error.ours === true }));
      if (!shown) query = before;
    } finally {
      if (mine === turn) {
        frame.classList.remove("old");
        frame.removeAttribute("aria-busy");
      }
    }
  }

  function show(page) {
    shown = page;
    drawHead();
    // Who deletes row after row by keyboard stays in the same place.
    const at = [...body.rows].findIndex((one) => one.contains(document.activeElement));
    body.replaceChildren(...page.rows.map(drawRow));
    if (at >= 0) (body.rows[Math.min(at, body.rows.length - 1)]?.querySelector("button") ?? frame).focus({ preventScroll: true });
    if (!page.rows.length) {
      body.append(h("tr", {}, h("td", { colspan: COLUMNS.length + 1, class: "empty", text: "No capture fits" })));
    }
    place.textContent = page.from_to?.text ?? "";
    note.textContent = [page.clamped, ...(page.notes ?? [])].filter(Boolean)
      .map((one) => one[0].toUpperCase() + one.slice(1) + ".").join(" ");
    jump.max = page.last_number ?? "";
    jump.value = page.number ?? "";
    if (document.activeElement !== search) search.value = query.get("search") ?? "";
    size.value = String(page.size);
    drawLinks(page);
    drawPeriod(page);
    listMonths();
    fetchAhead(page.links.next);
  }

  function fetchAhead(url) {
    if (!url) return;
    const control = new AbortController();
    const page = ask(url, { signal: control.signal });
    page.catch(() => { if (ahead?.control === control) ahead = null; });
    ahead = { url, page, control, at: performance.now() };
  }

  function drawHead() {
    const sort = query.get("sort") ?? (query.get("search") ? "" : USUAL);
    const held = head.contains(document.activeElement) ? document.activeElement.textContent : null;
    head.replaceChildren(...COLUMNS.map((column) => {
      const at = column.sorts?.indexOf(sort) ?? -1;
      const state = at < 0 ? "none" : column.sorts[at].startsWith("-") ? "descending" : "ascending";
      const cell = h("th", { scope: "col", class: classOf(column), "aria-sort": column.sorts ? state : null });
      if (!column.sorts) return (cell.append(column.label), cell);
      const next = column.sorts[(at + 1) % column.sorts.length];
      cell.append(h("button", { type: "button", text: column.label, onclick: () => change("sort", next === USUAL && !query.get("search") ? "" : next) }));
      return cell;
    }), h("th", { scope: "col" }, h("span", { class: "unseen", text: "Delete" })));
    if (held) [...head.querySelectorAll("button")].find((one) => one.textContent === held)?.focus({ preventScroll: true });
  }

  function drawRow(row) {
    const cells = COLUMNS.map((column) => {
      const value = row[column.name];
      return h("td", { class: classOf(column), text: value === null ? "–" : column.write ? column.write(value) : String(value) });
    });
    const remove = h("button", { type: "button", class: "quiet", "aria-label": `Delete ${row.ring}`, text: "×", onclick: () => erase(row, remove) });
    return h("tr", { "data-id": row.id }, ...cells, h("td", {}, remove));
  }

  function classOf(column) {
    return [column.number ? "number" : "", column.wide ? "wide" : ""].join(" ").trim() || null;
  }

  async function erase(row, button) {
    if (button.ariaDisabled === "true") return; // disabled for good it would lose the focus
    button.ariaDisabled = "true";
    try {
      await ask(`/captures/${row.id}`, { method: "DELETE" });
      refresh();
    } catch (error) {
      if (error.status === 404) return refresh(); // it is gone already
      button.ariaDisabled = "false";
      tellTrouble(trouble, error, () => erase(row, button));
    }
  }

  function refresh() {
    ahead?.control.abort();
    ahead = null;
    load(query, { push: false });
  }

  function drawLinks(page) {
    const step = (rel, text, url) => h("li", {}, url === null
      ? h("span", { class: "off", "aria-disabled": "true", text })
      : anchor(url, { rel, text }));
    const middle = page.strip.map((one) => {
      if (one.number === null) return h("li", { class: "gap", "aria-hidden": "true", text: "…" });
      const said = { text: count.format(one.number), "aria-label": `Page ${count.format(one.number)}` };
      return h("li", {}, one.current ? h("span", { ...said, class: "current", "aria-current": "page" }) : anchor(one.url, said));
    });
    const { first, prev, next, last } = page.links;
    const held = links.contains(document.activeElement) ? document.activeElement : null;
    links.replaceChildren(step("first", "First", first), step("prev", "Previous", prev), ...middle,
      step("next", "Next", next), step("last", "Last", last));
    if (!held) return;
    // Who turns pages by keyboard stays on the same link, or on the rows where it leads nowhere now.
    const same = [...links.querySelectorAll("a")].find((one) => held.rel ? one.rel === held.rel : one.textContent === held.textContent);
    (same ?? frame).focus({ preventScroll: true });
  }

  function anchor(url, props) {
    const asked = new URL(url, location.origin).searchParams;
    return h("a", { ...props, href: addressOf(asked), onclick: (event) => {
      if (!isPlainClick(event)) return;
      event.preventDefault();
      load(asked);
    } });
  }

  function back() {
    if (new URLSearchParams(location.search).get("view") === "feed") return;
    query = readAddress();
    drawFilters();
    load(query, { push: false });
  }

  addEventListener("popstate", back);
  drawHead();
  load(query, { push: false });
  return { refresh, close: () => { removeEventListener("popstate", back); stopped?.abort(); ahead?.control.abort(); turn++; } };
}
