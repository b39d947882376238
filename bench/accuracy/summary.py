"""Tables of what `run.py` found: q-errors, intervals, choices, beside the machine and the rival.

python bench/accuracy/summary.py [results.json] [--worst N]
"""

from __future__ import annotations

import argparse
import json
from collections import defaultdict
from pathlib import Path

import numpy as np


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("results", nargs="?", default="bench/accuracy/results.json")
    parser.add_argument("--worst", type=int, default=0)
    given = parser.parse_args()
    for engine, rows in json.loads(Path(given.results).read_text()).items():
        print(f"\n## {engine}: {len(rows)} pages over {len({r['shape'] for r in rows})} tables\n")
        for line in report(rows):
            print(line)
        if given.worst:
            show_worst(rows, given.worst)


def report(rows):
    """Yield the lines of one engine's table."""
    yield "| | median | p95 | most |"
    yield "|---|---:|---:|---:|"
    for title, errors in errors_of(rows).items():
        yield f"| {title} | " + " | ".join(f"{v:.2f}" for v in spread(errors)) + " |"
    yield ""
    for strategy in sorted({r["strategy"] for r in rows}):
        mine = [r for r in rows if r["strategy"] == strategy]
        work, time = spread(q(mine, "expected", "counted")), spread(q(mine, "predicted", "ms"))
        yield (
            f"- {strategy}: work {work[0]:.2f} / {work[1]:.2f}, time {time[0]:.2f} / {time[1]:.2f}"
        )
    inside = np.mean([r["low"] <= r["ms"] <= r["high"] for r in rows])
    yield f"- within the interval: {inside:.1%}"
    for title, line in choices(rows).items():
        yield f"- choice, {title}: {line}"


def errors_of(rows):
    rival = np.array([max(r["rival"], 1e-3) for r in rows])
    ms = np.array([r["ms"] for r in rows])
    by_shape = defaultdict(list)
    for i, r in enumerate(rows):
        by_shape[r["shape"]].append(i)
    scaled, shifted = np.zeros(len(rows)), np.zeros(len(rows))
    for places in by_shape.values():  # fitted on the very pages, as kindly as can be
        x, y = rival[places], ms[places]
        scaled[places] = x * np.exp(np.median(np.log(y / x)))
        shifted[places] = best_line(x, y)
    return {
        "work": q(rows, "expected", "counted"),
        "time": q(rows, "predicted", "ms"),
        "time, shipped rates": q(rows, "prior", "ms"),
        "machine's own repeats": q(rows, "odd", "even"),
        "rival × k": np.maximum(scaled / ms, ms / scaled),
        "rival × k + c": np.maximum(shifted / ms, ms / shifted),
    }


def best_line(x, y):
    """Return k x + c of the least relative error."""
    weights = 1 / y
    a = np.vstack([x * weights, weights]).T
    (k, c), *_ = np.linalg.lstsq(a, np.ones(len(y)), rcond=None)
    return np.maximum(k * x + c, 1e-3)


def q(rows, one, other):
    a = np.array([max(r[one], 0.5 if one == "expected" else 1e-4) for r in rows])
    b = np.array([max(r[other], 0.5 if one == "expected" else 1e-4) for r in rows])
    return np.maximum(a / b, b / a)


def spread(errors):
    return np.median(errors), np.percentile(errors, 95), np.max(errors)


def choices(rows):
    """Return how often the way predicted to be best is best, or near it."""
    grouped = defaultdict(list)
    for r in rows:
        grouped[r["shape"], r["listing"], r["offset"], r["size"]].append(r)
    found = {}
    for title, left_out in (("all strategies", ()), ("offsets alone", ("keyset",))):
        good = total = 0
        regrets = []
        for several in grouped.values():
            several = [r for r in several if r["strategy"] not in left_out]
            if len(several) < 2:
                continue
            taken = min(several, key=lambda r: r["predicted"])
            best = min(several, key=lambda r: r["ms"])
            lost, times = taken["ms"] - best["ms"], taken["ms"] / best["ms"]
            total += 1
            good += times <= 1.1 or lost <= 0.2
            regrets.append((times, lost))
        regrets.sort()
        p99 = regrets[int(0.99 * (len(regrets) - 1))][0]
        bad = sum(times > 5 and lost > 5 for times, lost in regrets)
        found[title] = (
            f"{good / total:.1%} of {total} within 1.1× or 0.2 ms, p99 {p99:.2f}×, "
            f"worse than 5× and 5 ms: {bad}"
        )
    return found


def show_worst(rows, count):
    for kind, one, other in (("work", "expected", "counted"), ("time", "predicted", "ms")):
        errors = q(rows, one, other)
        print(f"\nworst {kind}")
        for i in np.argsort(-errors)[:count]:
            r = rows[i]
            print(
                f"  {errors[i]:.2f} {r['shape']} {r['listing']} {r['strategy']} {r['offset']} "
                f"+{r['size']} [{r['path']}] {r[one]:.1f} / {r[other]:.1f} switch {r['switch']} "
                f"{ {k: round(v, 1) for k, v in r['work'].items()} }"
            )


if __name__ == "__main__":
    main()
