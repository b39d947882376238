// One page, three views; the address says which.

import { isPlainClick } from "./common.js";
import { openCompare } from "./compare.js";
import { openFeed } from "./feed.js";
import { openGrid } from "./grid.js";
import { openLive } from "./live.js";

const VIEWS = { grid: openGrid, feed: openFeed, compare: openCompare };
const root = document.getElementById("view");
const links = [...document.querySelectorAll("[data-view]")];
let open = null;
let now = null;

function wanted() {
  const name = new URLSearchParams(location.search).get("view");
  return Object.hasOwn(VIEWS, name) ? name : "grid";
}

// `returning`: by Back or Forward, where readers expect what they left.
function show(returning = false) {
  const name = wanted();
  if (name === now) return;
  open?.close();
  now = name;
  root.replaceChildren();
  root.className = `view-${name}`;
  for (const link of links) {
    if (link.dataset.view === name) link.setAttribute("aria-current", "page");
    else link.removeAttribute("aria-current");
  }
  open = VIEWS[name](root, returning);
}

for (const link of links) {
  link.addEventListener("click", (event) => {
    if (!isPlainClick(event)) return;
    event.preventDefault();
    if (link.dataset.view === now) return;
    history.pushState(null, "", link.getAttribute("href"));
    show();
  });
}
addEventListener("popstate", () => show(true));
openLive(() => open?.refresh());
show();
