// The feed: onward only. One request at a time, one that finds the end, none after it.

import { STATUSES, ask, filterFields, h, moment, readQuery, tellTrouble } from "./common.js";

const NEWS_MS = 3000;
const KEPT = "larkmere-feed";

export function openFeed(root, returning) {
  let query = readQuery(["species", "station", "status"]);
  let turn = 0;
  let control = null;
  let busy = false;
  let ended = false;
  let failed = false;
  let next = null;
  let before = null; // the place ahead of the newest row that is shown
  let rows = []; // all that are shown, newest first

  const filters = h("form", { class: "filters", onsubmit: (event) => event.preventDefault() }, ...filterFields(query, change));
  const news = h("button", { type: "button", class: "news", hidden: true, onclick: () => bring() });
  const list = h("ol", { class: "feed", "aria-busy": "false", "aria-label": "Captures, newest first" });
  const trouble = h("div", { class: "trouble", role: "alert", hidden: true });
  const more = h("button", { type: "button", class: "more", text: "More", onclick: () => load() });
  const end = h("p", { class: "end", role: "status", hidden: true });
  const foot = h("div", { class: "foot" }, trouble, more, end);
  root.append(filters, h("div", { class: "top" }, news), list, foot);

  const watch = new IntersectionObserver((seen) => {
    if (seen.some((one) => one.isIntersecting)) load();
  }, { rootMargin: "300px" });
  watch.observe(foot);
  const timer = setInterval(look, NEWS_MS);

  function address() {
    return "/data/arrivals" + (query.size ? "?" + query : "");
  }

  // Filters begin anew; an answer on its way for the old ones counts no more.
  function change(name, value) {
    if (value) query.set(name, value);
    else query.delete(name);
    history.replaceState(null, "", "?view=feed" + (query.size ? "&" + query : ""));
    begin();
  }

  function begin() {
    turn++;
    control?.abort();
    busy = ended = failed = false;
    next = before = null;
    rows = [];
    list.replaceChildren();
    news.hidden = end.hidden = true;
    tellTrouble(trouble, null);
    load();
  }

  async function load() {
    if (busy || ended || failed) return;
    busy = true;
    const mine = turn;
    const url = next ?? address();
    control = new AbortController();
    list.setAttribute("aria-busy", "true");
    more.disabled = true;
    more.hidden = false;
    more.textContent = "Loading…";
    try {
      const page = await ask(url, { signal: control.signal });
      if (mine !== turn) return;
      take(page);
    } catch (error) {
      if (mine !== turn || error.name === "AbortError") return;
      failed = true;
      tellTrouble(trouble, error, () => {
        if (error.ours) query = new URLSearchParams();
        failed = false;
        tellTrouble(trouble, null);
        if (error.ours) change("", "");
        else load();
      });
    } finally {
      if (mine === turn) rest();
    }
  }

  function rest() {
    busy = false;
    list.setAttribute("aria-busy", "false");
    more.disabled = false;
    more.textContent = "More";
    more.hidden = ended || failed;
    // A page that does not fill the screen loads on.
    if (!ended && !failed && foot.getBoundingClientRect().top < innerHeight + 300) load();
  }

  function take(page) {
    if (before === null) before = page.before;
    rows.push(...page.rows);
    list.append(...page.rows.map(draw));
    next = page.links.next;
    tellEnd();
  }

  function tellEnd() {
    ended = next === null;
    if (ended) {
      end.hidden = false;
      end.textContent = list.children.length ? "That is all: the first capture of the scheme" : "No capture fits";
      if (query.size && list.children.length) end.textContent = "That is all that fits";
    }
  }

  function draw(row, fresh) {
    const item = h("li", { "data-id": row.id, class: fresh === true ? "fresh" : null },
      h("a", { class: "ring", href: `?view=grid&search=${encodeURIComponent(row.ring)}`, text: row.ring }),
      h("span", { class: "what", text: row.species }),
      h("span", { class: "where", text: row.station }),
      h("time", { datetime: row.caught_at, text: moment(row.caught_at) }),
      h("span", { class: "state", text: STATUSES[row.status] }));
    return item;
  }

  // How many came above what is shown; told without moving it.
  async function look() {
    if (document.hidden || before === null || busy) return;
    const mine = turn;
    const asked = new URLSearchParams(query);
    asked.set("before", before);
    const found = await ask("/new?" + asked).catch(() => null);
    if (!found || mine !== turn) return;
    news.hidden = !found.new;
    news.textContent = `${found.new}${found.more ? "+" : ""} new`;
  }

  // Puts new captures on top; what is being read stays where it is.
  async function bring() {
    const mine = turn;
    news.disabled = true;
    try {
      const found = [];
      let top = before;
      // By `before`, which stops at the rows that are known: the page of `prev` is always a full one.
      for (let i = 0; i < 10; i++) {
        const asked = new URLSearchParams({ cursor: top, size: 50 });
        const page = await ask(address() + (query.size ? "&" : "?") + asked);
        if (mine !== turn) return;
        found.unshift(...page.rows);
        if (page.rows.length) top = page.before;
        if (!page.links.prev) break;
      }
      const anchor = [...list.children].find((one) => one.getBoundingClientRect().bottom > 0);
      const at = anchor?.getBoundingClientRect().top;
      rows.unshift(...found);
      list.prepend(...found.map((row) => draw(row, true)));
      before = top;
      if (anchor) scrollBy({ top: anchor.getBoundingClientRect().top - at, behavior: "instant" });
      news.hidden = true;
    } catch (error) {
      tellTrouble(trouble, error, () => { tellTrouble(trouble, null); bring(); });
    } finally {
      news.disabled = false;
    }
  }

  // Who goes away and comes back finds the same rows at the same place.
  function keep() {
    const kept = { query: query.toString(), rows, next, before, y: scrollY };
    try {
      sessionStorage.setItem(KEPT, JSON.stringify(kept));
    } catch {
      sessionStorage.removeItem(KEPT); // more than a browser keeps: it begins anew
    }
  }

  // The rows themselves are kept: new ones would move what addresses of pages give.
  function restore() {
    const kept = JSON.parse(sessionStorage.getItem(KEPT) ?? "null");
    sessionStorage.removeItem(KEPT);
    const came = performance.getEntriesByType("navigation")[0]?.type;
    const again = returning || came !== "navigate";
    if (!again || !kept?.rows?.length || kept.query !== query.toString()) return load();
    ({ rows, next, before } = kept);
    list.append(...rows.map(draw));
    tellEnd();
    scrollTo({ top: kept.y, behavior: "instant" });
    rest();
    look();
  }

  addEventListener("pagehide", keep);
  history.scrollRestoration = "manual";
  restore();
  return {
    refresh: look,
    close: () => {
      keep();
      turn++;
      control?.abort();
      clearInterval(timer);
      watch.disconnect();
      removeEventListener("pagehide", keep);
      history.scrollRestoration = "auto";
    },
  };
}
