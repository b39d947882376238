// Side by side: the same walk by offset and by keyset while captures arrive.

import { ask, count, h, moment, tellTrouble } from "./common.js";

const DRIFT_STRATEGIES = [
  { name: "offset", title: "By offset", text: "rows 11–20, rows 21–30, …" },
  { name: "keyset", title: "By keyset", text: "the next rows behind the last one" },
];
const DWELL_MS = 2000;

export function openCompare(root) {
  let walk = null;
  let busy = false;
  let timer = null;
  let turn = 0;
  const trouble = h("div", { class: "trouble", role: "alert", hidden: true });
  const next = h("button", { type: "button", class: "strong", text: "Next page", onclick: () => step() });
  const alone = h("button", { type: "button", text: "Walk by itself", "aria-pressed": "false", onclick: toggle });
  const anew = h("button", { type: "button", text: "Begin anew", onclick: begin });
  const sides = Object.fromEntries(DRIFT_STRATEGIES.map((strategy) => [strategy.name, side(strategy)]));
  root.append(
    h("div", { class: "lead" },
      h("p", { text: "Two readers go through the newest captures, ten rows per page. Let captures arrive and turn pages: rows that came above push others down." }),
      h("div", { class: "acts" }, next, alone, anew)),
    trouble,
    h("div", { class: "both" }, ...DRIFT_STRATEGIES.map((strategy) => sides[strategy.name].element)));

  function side(strategy) {
    const repeats = h("dd", { "data-count": "repeats", text: "0" });
    const skipped = h("dd", { "data-count": "skipped", text: "0" });
    const shown = h("dd", { "data-count": "shown", text: "0" });
    const costs = h("tbody");
    const list = h("ol", { class: "served", tabindex: 0, "aria-label": `Rows ${strategy.title.toLowerCase()}` });
    const sql = h("pre", { text: "" });
    const element = h("section", { class: `side ${strategy.name}`, "aria-label": strategy.title },
      h("h2", { text: strategy.title }), h("p", { class: "hint", text: strategy.text }),
      h("dl", {},
        h("div", {}, h("dt", { text: "different captures" }), shown),
        h("div", { class: "bad" }, h("dt", { text: "shown twice" }), repeats),
        h("div", { class: "bad" }, h("dt", { text: "skipped" }), skipped)),
      list,
      h("table", { class: "costs" },
        h("thead", {}, h("tr", {}, ...["page", "database steps", "ms", "bytes"].map((text) => h("th", { scope: "col", text })))),
        costs),
      h("details", {}, h("summary", { text: "SQL of the last page" }), sql));
    return { element, repeats, skipped, shown, costs, list, sql, ended: false };
  }

  async function begin() {
    turn++;
    stop();
    walk = null;
    for (const one of Object.values(sides)) {
      one.ended = false;
      one.list.replaceChildren();
      one.costs.replaceChildren();
      one.element.classList.remove("hit");
      one.repeats.textContent = one.skipped.textContent = one.shown.textContent = "0";
      one.sql.textContent = "";
    }
    busy = false;
    await step();
  }

  async function step() {
    if (busy) return;
    busy = next.disabled = true;
    const mine = turn;
    tellTrouble(trouble, null);
    try {
      walk ??= (await ask("/walks", { method: "POST", body: {} })).walk;
      await Promise.all(DRIFT_STRATEGIES.map(async (strategy) => {
        const found = await ask(`/walks/${walk}/${strategy.name}?size=10`);
        if (mine === turn) take(sides[strategy.name], found);
      }));
    } catch (error) {
      if (mine !== turn) return;
      stop();
      tellTrouble(trouble, error, () => step());
    } finally {
      if (mine === turn) busy = next.disabled = false;
    }
  }

  function take(one, found) {
    one.repeats.textContent = count.format(found.repeats);
    one.element.classList.toggle("hit", found.repeats > 0);
    one.skipped.textContent = count.format(found.skipped);
    one.shown.textContent = count.format(found.shown);
    if (found.rows.length) {
      one.list.append(h("li", { class: "mark", text: `page ${found.page}` }));
      one.list.append(...found.rows.map((row) => h("li", { class: row.again ? "again" : null, "data-id": row.id },
        h("span", { class: "ring", text: row.ring }), h("span", { text: row.species }),
        h("time", { text: moment(row.caught_at) }), row.again ? h("strong", { text: "again" }) : null)));
      one.list.scrollTop = one.list.scrollHeight;
    }
    if (found.cost) {
      const { touched, ms, bytes, sql } = found.cost;
      one.costs.prepend(h("tr", {}, ...[found.page, touched === null ? "–" : count.format(touched), ms.toFixed(2), count.format(bytes)]
        .map((text) => h("td", { text: String(text) }))));
      one.sql.textContent = sql.join(";\n\n");
    }
    if (found.ended && !one.ended) {
      one.ended = true;
      one.list.append(h("li", { class: "mark", text: "the end" }));
    }
  }

  function toggle() {
    if (timer) return stop();
    alone.setAttribute("aria-pressed", "true");
    timer = setInterval(step, DWELL_MS);
    step();
  }

  function stop() {
    clearInterval(timer);
    timer = null;
    alone.setAttribute("aria-pressed", "false");
  }

  begin();
  return { refresh: () => {}, close: () => { turn++; stop(); } };
}
