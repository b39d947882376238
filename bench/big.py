"""Counted anchors on large tables: jumps, places and totals beside OFFSET and a known key.

    python bench/big.py URL [--rows 1000000] [--turns 40]

Makes a table `big` in the database, which is dropped again. Everything is timed in one run, ways
interleaved; figures are milliseconds, least and median, unless they say otherwise.
"""

from __future__ import annotations

import argparse
import random
import sqlite3
from statistics import median
from time import perf_counter

from sqlalchemy import Column, Index, Integer, MetaData, String, Table, select, text

import vrelko
from vrelko import Sizes, Spot
from vrelko.engines.registry import open_database
from vrelko.serving.anchors.anchor_set import anchor_set
from vrelko.serving.anchors.fold_worker import build, fold
from vrelko.serving.anchors.places import Places
from vrelko.serving.anchors.verifying import verify

big = Table(
    "big", MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("st", Integer, nullable=False), Column("a", Integer, nullable=False),
    Column("b", Integer, nullable=False), Column("pad", String(40)),
    Index("big_ab", "a", "b", "id"),
)  # fmt: skip
FILL = {
    "postgresql": "INSERT INTO big SELECT g, g % 50, CAST(g AS bigint) * 7919 % 100003, "
    "g * 31 % 1009, repeat('x', 40) FROM generate_series({low}, {high}) g",
    "mariadb": "INSERT INTO big SELECT seq, seq % 50, seq * 7919 % 100003, seq * 31 % 1009, "
    "repeat('x', 40) FROM seq_{low}_to_{high}",
    "sqlite": "INSERT INTO big WITH RECURSIVE s(g) AS (SELECT {low} UNION ALL SELECT g + 1 FROM s "
    "WHERE g < {high}) SELECT g, g % 50, g * 7919 % 100003, g * 31 % 1009, "
    "'xxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxxx' FROM s",
}


def main():
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("url")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--turns", type=int, default=40)
    given = parser.parse_args()
    if given.url.startswith("sqlite:///"):
        sqlite3.connect(given.url.removeprefix("sqlite:///")).close()  # made where it is not there
    engine = open_database(given.url, read_only=False)
    name = "mariadb" if engine.dialect.name == "mysql" else engine.dialect.name
    fill(engine, name, given.rows)
    made = vrelko.Listing(select(big.c.id, big.c.a, big.c.b, big.c.pad), name="big",
                          orders="a,b", sizes=Sizes(25), total="exact", jumps="anchors",
                          expose=True)  # fmt: skip
    with engine.connect() as connection:
        anchors = anchor_set(made.settings, connection)
    anchors.drop(engine)
    count_s = min(timed(lambda: count(engine, name)) for _ in range(2))
    anchors.create(engine)
    began = perf_counter()
    laid = build(engine, anchors)
    built_s = perf_counter() - began
    print(f"\n{name}: {given.rows:,} rows; count by the index {count_s:.2f} s; {laid:,} anchors "
          f"built in {built_s:.1f} s, {built_s / count_s:.1f}x the count")  # fmt: skip
    for log in (0, 1_000, 10_000):
        change(engine, given.rows, log)
        jumps(engine, made, anchors, given, log)
    began, folded = perf_counter(), 0
    while many := fold(engine, anchors):
        folded += many
    spent = perf_counter() - began
    print(f"fold: {folded:,} log rows in {spent:.1f} s, {folded / spent:,.0f} a second")
    began = perf_counter()
    off = verify(engine, anchors, {}) if given.rows <= 2_000_000 else [0]
    wrong, spent = sum(map(bool, off)), perf_counter() - began
    print(f"verify: {wrong} of {len(off):,} segments off, {spent:.1f} s")
    anchors.drop(engine)
    with engine.begin() as connection:
        big.drop(connection)
    engine.dispose()


def fill(engine, name, rows):
    with engine.begin() as connection:
        big.drop(connection, checkfirst=True)
        big.create(connection)
        for index in list(big.indexes):
            index.drop(connection)
    for low in range(1, rows + 1, 500_000):
        high = min(low + 499_999, rows)
        run(engine, FILL[name].format(low=low, high=high))
    with engine.begin() as connection:
        for index in big.indexes:
            index.create(connection)
    if name == "postgresql":  # as autovacuum leaves a table: keys are then read from indexes alone
        with engine.connect() as raw:
            whole = raw.execution_options(isolation_level="AUTOCOMMIT")
            whole.execute(text("VACUUM ANALYZE big"))
    else:
        run(engine, "ANALYZE TABLE big" if name == "mariadb" else "ANALYZE big")


def count(engine, name):
    """Count all rows through the index, in one process."""
    with engine.begin() as connection:
        if name == "postgresql":
            connection.execute(text("SET LOCAL enable_seqscan = off"))
            connection.execute(text("SET LOCAL max_parallel_workers_per_gather = 0"))
        hint = {"mariadb": "FORCE INDEX (big_ab)", "sqlite": "INDEXED BY big_ab"}.get(name, "")
        connection.execute(text(f"SELECT count(*) FROM big {hint} WHERE a >= 0"))


def run(engine, statement):
    with engine.begin() as connection:
        found = connection.execute(text(statement))
        return found.all() if found.returns_rows else None


def timed(way):
    began = perf_counter()
    way()
    return perf_counter() - began


def change(engine, rows, many):
    """Delete and insert rows evenly, so that the log holds about so many."""
    have = run(engine, f"SELECT count(*) FROM {log_name(engine)}")[0][0]
    step = max(rows // max((many - have) // 2, 1), 1)
    if many > have:
        run(engine, f"DELETE FROM big WHERE id % {step} = 7 % {step}")
        run(engine, f"INSERT INTO big SELECT -2 * id - {many > 1_000:d}, st, a, b, pad FROM big "
            f"WHERE id > 0 AND id % {step} = 9 % {step}")  # fmt: skip


def log_name(engine):
    from sqlalchemy import inspect

    return next(one for one in inspect(engine).get_table_names() if one.startswith("vrelko_log_"))


def jumps(engine, made, anchors, given, log):
    pages = given.rows // 25
    with engine.connect() as connection:
        plain = made.changed(jumps="offset", total="none")
        middle = plain.read(connection, Spot.number(pages // 2))
        behind = middle.next
        offset_ms = min(
            timed(lambda: plain.read(connection, Spot.number(pages // 2))) for _ in range(3)
        )
    depths = {"1": 1, "100": 100, "10,000": 10_000, "middle": pages // 2, "last": pages}
    ways = {f"page {name}": (lambda at=at: made.read(engine, Spot.number(at))) for name, at in
            depths.items() if at <= pages}  # fmt: skip
    ways["a known key"] = lambda: plain.read(engine, behind)
    key = middle.keys[0]

    def with_places(ask):
        def way():
            with engine.connect() as connection:
                ask(Places(anchors, connection, {}))

        return way

    ways["total"] = with_places(lambda places: places.total())
    ways["rank"] = with_places(lambda places: places.rank(key))
    times = {name: [] for name in ways}
    for _ in range(given.turns):
        for name in random.sample(list(ways), len(ways)):
            times[name].append(timed(ways[name]))
    base = min(times["a known key"])
    print(f"log of {log:,} rows; OFFSET at the middle {offset_ms * 1e3:,.0f} ms")
    for name, found in times.items():
        print(f"  {name:<12} {min(found) * 1e3:>7.2f} {median(found) * 1e3:>7.2f}   "
              f"{min(found) / base:>5.1f}x the key")  # fmt: skip


if __name__ == "__main__":
    main()
