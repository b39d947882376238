// The writer: how fast captures arrive, and rows added by hand.

import { ask, count, slow } from "./common.js";

const TALLY_MS = 2000;
const SLOW_MS = 1500;

export function openLive(changed) {
  const rate = document.getElementById("rate");
  const tally = document.getElementById("tally");
  const add = document.getElementById("add");
  const lame = document.getElementById("slow");

  function show(state) {
    rate.value = String(state.rate);
    tally.textContent = `${count.format(state.inserted)} arrived, ${count.format(state.deleted)} deleted`;
  }

  async function look() {
    if (document.hidden) return;
    const state = await ask("/live").catch(() => null);
    if (state && document.activeElement !== rate) show(state);
  }

  rate.addEventListener("change", async () => {
    const state = await ask("/live", { method: "POST", body: { rate: Number(rate.value) } }).catch(() => null);
    if (state) show(state);
    else tally.textContent = "The writer could not be reached";
  });
  add.addEventListener("click", async () => {
    add.disabled = true;
    const row = await ask("/captures", { method: "POST", body: {} }).catch(() => null);
    add.disabled = false;
    tally.textContent = row ? `${row.ring} added` : "It could not be added";
    if (row) changed();
  });
  lame.addEventListener("change", () => { slow.ms = lame.checked ? SLOW_MS : 0; });
  look();
  setInterval(look, TALLY_MS);
}
