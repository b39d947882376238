"""What a page costs on SQLite, and what Vrelko adds to it. Prints ratios of one run.

    python bench/page_cost.py [captures]

Builds a Larkmere database (1,000,000 captures by default) in a temporary folder, then prints
  1. VM steps and time of pages by depth, by offset and by key, in a feed and in a grid;
  2. VM steps behind the constants of the cost model, statement by statement;
  3. a page through Listing.read against the same statement written by hand.
"""

from __future__ import annotations

import gc
import sys
import tempfile
from pathlib import Path
from statistics import median
from time import perf_counter

from sqlalchemy import bindparam, create_engine, or_, select, text

import vrelko
from vrelko import Sizes, Spot
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.larkmere.generate import build
from vrelko.larkmere.schema import capture


def main(rows: int) -> None:
    with tempfile.TemporaryDirectory(prefix="vrelko-bench-") as folder:
        engine = create_engine(f"sqlite:///{Path(folder) / 'larkmere.db'}")
        build(engine, rows)
        with engine.connect() as connection:
            by_depth(connection, rows)
            constants(connection)
            overhead(connection)
        engine.dispose()


def by_depth(connection, rows):
    print(f"\n1. a page of 25 of {rows:,} captures, newest first\n")
    print(f"{'row':>9} {'offset steps':>13} {'ms':>8} {'keyset steps':>13} {'ms':>8} {'ratio':>9}")
    feed = vrelko.Listing(
        select(capture.c.id, capture.c.ring, capture.c.caught_at),
        orders="-caught_at",
        total="none",
    )
    for depth in sorted({0, 1_000, 10_000, 100_000, rows - 25}):
        spot = Spot.start()
        if depth:
            before = feed.read(connection, Spot.offset(depth - 1), size=1)
            spot = Spot.after(before.keys[0])
        jump = Spot.offset(depth)
        found = []
        for at in (jump, spot):
            with count_steps(connection) as steps:
                feed.read(connection, at)
            found.append((steps.count, fastest(lambda at=at: feed.read(connection, at), 5)))
        (a, b), (c, d) = found
        print(f"{depth:>9,} {a:>13,} {b * 1e3:>8.2f} {c:>13,} {d * 1e3:>8.2f} {b / d:>8.1f}×")


def constants(connection):
    print("\n2. VM steps a row, from the difference of two sizes\n")
    station = "SELECT id, ring FROM capture WHERE station_id = 3 ORDER BY caught_at DESC, id DESC"
    feed = "SELECT id, ring FROM capture ORDER BY caught_at DESC, id DESC"
    narrow = "SELECT id, caught_at FROM capture ORDER BY caught_at DESC, id DESC"
    plain = "SELECT id, ring FROM capture ORDER BY id"
    for title, statement, grows in (
        ("row out, through an index", feed, "LIMIT {n} OFFSET 0"),
        ("row out, fixed column", station, "LIMIT {n} OFFSET 0"),
        ("row out, covering index", narrow, "LIMIT {n} OFFSET 0"),
        ("row out, row id order", plain, "LIMIT {n} OFFSET 0"),
        ("row skipped, through an index", feed, "LIMIT 1 OFFSET {n}"),
        ("row skipped, fixed column", station, "LIMIT 1 OFFSET {n}"),
        ("row skipped, covering index", narrow, "LIMIT 1 OFFSET {n}"),
        ("row skipped, row id order", plain, "LIMIT 1 OFFSET {n}"),
        (
            "row counted, capped",
            "SELECT count(*) FROM (SELECT 1 FROM capture",
            "LIMIT {n} OFFSET 0)",
        ),
    ):
        low, high = (steps_of(connection, f"{statement} {grows.format(n=n)}") for n in (100, 1_100))
        print(f"  {title:<32} {(high - low) / 1000:.2f}")


def steps_of(connection, statement):
    connection.execute(text(statement)).all()
    with count_steps(connection) as steps:
        connection.execute(text(statement)).all()
    return steps.count


def overhead(connection):
    print("\n3. a page of 25 through Listing.read, against the statement written by hand\n")
    c = capture.c
    where = c.station_id == bindparam("station")
    listing = vrelko.Listing(
        select(c.id, c.ring, c.caught_at, c.weight_g).where(where),
        name="grid",
        orders="-caught_at",
        sizes=Sizes(25),
        total="none",
    )
    key = listing.read(connection, Spot.offset(500), params={"station": 3}).keys[-1]
    cursor = listing.read(connection, Spot.after(key), params={"station": 3}).self

    def by_hand():
        return (
            select(c.id, c.ring, c.caught_at, c.weight_g)
            .where(
                where,
                c.caught_at <= bindparam("x"),
                or_(c.caught_at < bindparam("x"), c.id < bindparam("y")),
            )
            .order_by(c.caught_at.desc(), c.id.desc())
            .limit(26)
        )

    once = by_hand()
    values = {"station": 3, "x": key[0], "y": key[1]}
    ways = {
        "by hand, built once": lambda: connection.execute(once, values).all(),
        "by hand, built each time": lambda: connection.execute(by_hand(), values).all(),
        "Listing.read, a cursor": lambda: listing.read(connection, cursor, params={"station": 3}),
        "… and its next link": lambda: listing.read(connection, cursor, params={"station": 3}).next,
    }
    gc.disable()
    times = {name: [] for name in ways}
    for _ in range(1_500):
        for name, way in ways.items():  # side by side, so that noise hits all alike
            began = perf_counter()
            way()
            times[name].append(perf_counter() - began)
    gc.enable()
    base = median(times["by hand, built once"])
    for name, found in times.items():
        print(f"  {name:<28} {median(found) * 1e6:>7.0f} µs {median(found) / base:>6.2f}×")


def fastest(run, repeats):
    best = float("inf")
    for _ in range(repeats):
        began = perf_counter()
        run()
        best = min(best, perf_counter() - began)
    return best


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1_000_000)
