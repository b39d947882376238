"""How fast walks are simulated: a million events on tables of a million and a billion rows.

    python bench/drift_speed.py

The first stream lies far from any page for the most part, the second all in reach.
"""

from __future__ import annotations

import resource
from time import perf_counter

import numpy as np

from vrelko.core.drift import fast
from vrelko.core.drift.reference import play
from vrelko.core.drift.timeline import Changes, Timeline
from vrelko.core.drift.walks import DELETE, INSERT, SPACE, Course, Event

EVENTS, SIZE, PAGES = 1_000_000, 50, 20


def main():
    times = tuple(map(float, range(PAGES)))
    for rows in (10**6, 10**9):
        for title, near in (("anywhere", rows), ("in reach", 2 * SIZE * PAGES)):
            course = Course(rows, SIZE, times, ())
            changes = stream(rows, near, EVENTS)
            best = {}
            for _ in range(3):
                began = perf_counter()
                timeline = Timeline(course, changes)
                best["prepare"] = min(best.get("prepare", 9), perf_counter() - began)
                for strategy in ("offset", "keyset"):
                    began = perf_counter()
                    fast.play(timeline, strategy)
                    best[strategy] = min(best.get(strategy, 9), perf_counter() - began)
            print(
                f"{rows:>13,} rows, events {title}: {len(timeline.key):,} versions, "
                + ", ".join(f"{name} {seconds:.3f} s" for name, seconds in best.items())
            )
    print(f"peak memory {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB")
    compare()


def stream(rows, near, count):
    rng = np.random.default_rng(1)
    kinds = rng.choice([INSERT, DELETE], size=count, p=[0.7, 0.3])
    places = rng.integers(0, near, count)
    numbers = np.where(kinds == INSERT, rows + np.arange(count), places)
    keys = np.where(kinds == INSERT, (places + 1) * SPACE - 1 - np.arange(count), 0)
    return Changes(np.sort(rng.random(count) * PAGES), kinds, numbers, keys)


def compare():
    """Against the reference, on a stream that both can play."""
    rows, count = 10**6, 2_000
    changes = stream(rows, 2_000, count)
    events = tuple(
        Event(float(t), int(k), int(r), int(key))
        for t, k, r, key in zip(
            changes.times, changes.kinds, changes.rows, changes.keys, strict=True
        )
    )
    course = Course(rows, SIZE, tuple(map(float, range(PAGES))), events)
    began = perf_counter()
    slow = play(course, "offset")
    took = perf_counter() - began
    began = perf_counter()
    assert fast.play(Timeline(course, changes), "offset") == slow
    quick = perf_counter() - began
    print(
        f"{count:,} events on {rows:,} rows: reference {took:.2f} s, fast {quick:.4f} s, "
        f"{took / quick:,.0f}×"
    )


if __name__ == "__main__":
    main()
