"""How true plans are on tables that nobody designed: held-out pages of tables drawn from a seed.

    python bench/accuracy/foreign_run.py [URL ...] [--seed 1] [--pages 8] [--shapes 13]
                                         [--json FILE]

Each page is planned for its size as `vrelko plan` does it (survey, EXPLAIN, a few pages counted
under the usual budget), then read by every strategy, counted and timed.
"""

from __future__ import annotations

import argparse
import json
import random
import sys
import tempfile
from collections import defaultdict
from pathlib import Path
from time import perf_counter

sys.path.insert(0, str(Path(__file__).parent))
sys.path.insert(0, str(Path(__file__).parent.parent))

import numpy as np
from bounds import SERVERS, open_database
from foreign import draw_shapes, make
from scenarios import STRATEGIES

import vrelko
from vrelko.core.cost.counted import counted_as
from vrelko.core.cost.rates import Clock
from vrelko.errors import VrelkoError
from vrelko.measuring.budget import BUDGET_MS, Spending
from vrelko.measuring.engines import run_limited, time_again
from vrelko.measuring.trials import Bench

MOST_MS = 6_000.0


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("urls", nargs="*")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--pages", type=int, default=8)
    parser.add_argument("--shapes", type=int, default=13)
    parser.add_argument("--only", default="")
    parser.add_argument("--json", default="bench/accuracy/foreign.json")
    parser.add_argument("--worst", type=int, default=15)
    given = parser.parse_args()
    folder = tempfile.TemporaryDirectory(prefix="vrelko-foreign-")
    servers = [url.replace("vrelko_bench", "vrelko_foreign") for url in SERVERS]
    urls = given.urls or [f"sqlite:///{Path(folder.name) / 'foreign.db'}", *servers]
    results = json.loads(Path(given.json).read_text()) if Path(given.json).exists() else {}
    for url in urls:
        engine = open_database(url)
        name = {"mysql": "mariadb"}.get(engine.dialect.name, engine.dialect.name)
        rows = []
        for drawn in draw_shapes(name, given.seed, given.shapes):
            if given.only and given.only not in drawn.name:
                continue
            began = perf_counter()
            make(engine, drawn)
            made = perf_counter() - began
            rows += measure_drawn(engine, drawn, given.pages, given.seed)
            print(
                f"{name} {drawn.name}: made in {made:.0f} s, measured in "
                f"{perf_counter() - began - made:.0f} s",
                flush=True,
            )
            results[name] = rows
            Path(given.json).write_text(json.dumps(results))
        engine.dispose()
        report(name, rows, given.worst)


def measure_drawn(engine, drawn, pages, seed):
    """Return a record for each page read by each strategy."""
    rng = random.Random(f"{seed} {drawn.name}")
    names = list(drawn.listings)
    found = []
    facts = {}
    for i in range(pages):
        which = names[i % len(names)]
        share = rng.random() if i % 2 else 10 ** -rng.uniform(0, 4)
        size = round(10 ** rng.uniform(1, 2.7))
        listing = drawn.listings[which]()
        listing = listing.changed(sizes=vrelko.Sizes(size, max=None))
        if which not in facts:
            facts[which] = vrelko.survey(engine, listing)
        plan = vrelko.plan(listing, facts[which], engine=engine)
        found += measure_page(engine, drawn, which, plan, share, size)
    return found


def measure_page(engine, drawn, which, plan, share, size):
    clock = Clock(plan.judgement.rates, plan.facts.server)
    records = []
    with engine.connect() as connection:
        bench = Bench(connection, plan)
        offset = int(share * max(bench.model.matching - size, 0))
        spending = Spending(1e6)
        for strategy in STRATEGIES:
            try:
                trial = bench.page(strategy, offset, size, MOST_MS)
                run = run_limited(connection, trial, MOST_MS, spending, MOST_MS, 0.0)
                ms = run.ms
                for _ in range(3 if ms < 300 else 1):
                    ms = min(ms, time_again(connection, trial, spending))
            except VrelkoError:
                connection.rollback()
                continue
            if run.cut or run.counted is None:
                continue
            time = clock.time(trial.estimate, trial.passing, trial.path)
            records.append(
                {
                    "shape": drawn.name,
                    "listing": which,
                    "strategy": strategy,
                    "offset": offset,
                    "size": size,
                    "path": trial.path,
                    "believed": bench.model.believes(strategy, offset, size),
                    "expected": counted_as(clock.rates.engine, trial.estimate),
                    "counted": run.counted,
                    "ms": ms,
                    "predicted": time.ms,
                    "low": time.low,
                    "high": time.high,
                    "spent": plan.spent_ms,
                    "limit": BUDGET_MS,
                    "verdict": plan.verdict.strategy,
                    "rows": plan.judgement.rows,
                }
            )
    return records


def report(name, rows, worst):
    """Print the figures of one engine, and its worst pages."""
    print(f"\n## {name}: {len(rows)} pages")
    for line in lines_of(rows):
        print(line)
    q = errors(rows, "expected", "counted")
    for i in np.argsort(-q)[:worst]:
        r = rows[i]
        print(
            f"  {q[i]:8.2f} {r['shape']} | {r['listing']} | {r['strategy']} {r['offset']} "
            f"+{r['size']} of {r['rows']:.0f} [{r['path']}] {r['expected']:.1f} / "
            f"{r['counted']:.1f} believed {r['believed']}"
        )


def lines_of(rows):
    """Yield the lines of one engine's table, in Markdown."""
    q, times = errors(rows, "expected", "counted"), errors(rows, "predicted", "ms")
    inside = np.array([r["low"] <= r["ms"] <= r["high"] for r in rows])
    width = np.array([r["high"] / r["low"] for r in rows])
    yield (
        "| pages whose reading was … | share | work: median | p95 | most | time: median | p95 | "
        "within the interval | its width |"
    )
    yield "|---|---:|---:|---:|---:|---:|---:|---:|---:|"
    kinds = [("believed", True), ("counted", False), ("not run", None)]
    for title, some in (*kinds, ("all", "all")):
        mine = [i for i, r in enumerate(rows) if some == "all" or r["believed"] is some]
        if mine:
            yield (
                f"| {title} | {len(mine) / len(rows):.0%} | {np.median(q[mine]):.2f} | "
                f"{np.percentile(q[mine], 95):.2f} | {q[mine].max():.2f} | "
                f"{np.median(times[mine]):.2f} | {np.percentile(times[mine], 95):.2f} | "
                f"{inside[mine].mean():.0%} | {np.median(width[mine]):.1f}× |"
            )
    spent = [r["spent"] for r in rows]
    yield ""
    yield (
        f"- database time of a plan: {np.median(spent):,.0f} ms in the middle, "
        f"{max(spent):,.0f} ms at most"
    )
    by_page = defaultdict(list)
    for r in rows:
        by_page[r["shape"], r["listing"], r["offset"], r["size"]].append(r)
    good = bad = total = 0
    for several in by_page.values():
        if len(several) < 2:
            continue
        taken = min(several, key=lambda r: r["predicted"])
        best = min(several, key=lambda r: r["ms"])
        lost, total = taken["ms"] - best["ms"], total + 1
        good += taken["ms"] <= 1.1 * best["ms"] or lost <= 0.2
        bad += taken["ms"] > 3 * best["ms"] and lost > 5
    yield (
        f"- choice: {good / total:.1%} of {total} within 1.1× or 0.2 ms of the best, "
        f"worse than 3× and 5 ms: {bad}"
    )


def errors(rows, one, other):
    a = np.array([max(r[one], 0.5 if one == "expected" else 1e-4) for r in rows])
    b = np.array([max(r[other], 0.5 if one == "expected" else 1e-4) for r in rows])
    return np.maximum(a / b, b / a)


if __name__ == "__main__":
    main()
