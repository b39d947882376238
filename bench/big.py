"""Counted anchors on large tables: jumps, positions and totals beside OFFSET and a known key.

    python bench/big.py URL [--rows 1000000] [--turns 40] [--made-up N] [--writers N]
                        [--periods] [--bulk N] [--no-offset]

Makes a table `big` in the database, which is dropped again, and prints Markdown. Ways are timed in
one run, interleaved; figures are milliseconds, least and median, unless they say otherwise.
`--made-up N`: lookup among the anchors of N rows that are not there. `--writers N`: what N
processes that insert row by row pay for the triggers. `--periods`: those alone. `--bulk N`: whether
a fold worker keeps up with N rows a second that bulk statements change. `--no-offset`: without the
rival, whose few pages take longer than all else.
"""

from __future__ import annotations

import argparse
import multiprocessing
import random
import sqlite3
import time
from statistics import median
from time import perf_counter

from sqlalchemy import (
    Column,
    DateTime,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    bindparam,
    insert,
    select,
    text,
)

import vrelko
from vrelko import Sizes, Spot
from vrelko.engines.counters import count_reads
from vrelko.engines.registry import open_database
from vrelko.serving.anchors.fold_worker import build, fold, renew
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.anchors.making import create, drop
from vrelko.serving.anchors.of_listing import anchor_set
from vrelko.serving.anchors.snapshots import begin_snapshot
from vrelko.serving.anchors.verifying import verify

big = Table(
    "big", MetaData(),
    Column("id", Integer, primary_key=True, autoincrement=False),
    Column("st", Integer, nullable=False), Column("a", Integer, nullable=False),
    Column("b", Integer, nullable=False), Column("at", DateTime, nullable=False),
    Column("pad", String(40)),
    Index("big_ab", "a", "b", "id"), Index("big_st", "st", "a", "b", "id"),
    Index("big_at", "at", "id"),
)  # fmt: skip
SPAN = 5 * 31_557_600  # seconds of five years
_PLACES = "{g}, {g} % 50, {wide} * 7919 % 100003, {g} * 31 % 1009"
FILL = {
    "postgresql": f"INSERT INTO big SELECT {_PLACES}, timestamp '2021-01-01' + "
    f"({{wide}} * 7919 % {SPAN}) * interval '1 second', repeat('x', 40) "
    "FROM generate_series({low}, {high}) g",
    "mariadb": f"INSERT INTO big SELECT {_PLACES}, timestamp '2021-01-01 00:00:00' + "
    f"interval ({{g}} * 7919 % {SPAN}) second, repeat('x', 40) FROM seq_{{low}}_to_{{high}}",
    "sqlite": "INSERT INTO big WITH RECURSIVE s(g) AS (SELECT {low} UNION ALL SELECT g + 1 FROM s "
    f"WHERE g < {{high}}) SELECT {_PLACES}, datetime(1609459200 + {{g}} * 7919 % {SPAN}, "
    f"'unixepoch'), '{'x' * 40}' FROM s",
}
G = {"postgresql": "g", "mariadb": "seq", "sqlite": "g"}


def main():
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("url")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--turns", type=int, default=40)
    parser.add_argument("--made-up", type=int, default=0)
    parser.add_argument("--writers", type=int, default=0)
    parser.add_argument("--periods", action="store_true")
    parser.add_argument("--bulk", type=float, default=0.0)
    parser.add_argument("--no-offset", dest="offset", action="store_false")
    given = parser.parse_args()
    if given.url.startswith("sqlite:///"):
        made = sqlite3.connect(given.url.removeprefix("sqlite:///"))
        made.execute("PRAGMA journal_mode = WAL")
        made.close()
    engine = open_database(given.url, read_only=False)
    name = "mariadb" if engine.dialect.name == "mysql" else engine.dialect.name
    try:
        fill(engine, name, given.rows)
        if given.made_up:
            made_up(engine, name, given)
        elif given.writers:
            price(engine, name, given)
        elif given.bulk:
            keeping_up(engine, name, given)
        elif given.periods:
            periods(engine, given)
        else:
            whole(engine, name, given)
    finally:
        with engine.begin() as connection:
            big.drop(connection)
        engine.dispose()


def listing(where=None, orders="a,b", **more):
    chosen = select(big.c.id, big.c.a, big.c.b, big.c["at"], big.c.pad)
    chosen = chosen if where is None else chosen.where(where)
    return vrelko.Listing(chosen, name="big", orders=orders, sizes=Sizes(25), total="exact",
                          jumps="anchors", expose=True, **more)  # fmt: skip


def set_of(engine, made):
    with engine.connect() as connection:
        anchors = anchor_set(made.settings, connection)
    drop(engine, anchors)
    return anchors


def whole(engine, name, given):
    made = listing()
    anchors = set_of(engine, made)
    count_s = min(timed(lambda: count(engine, name)) for _ in range(2))
    create(engine, anchors)
    built_s = timed(lambda: build(engine, anchors))
    laid = run(engine, f"SELECT count(*) FROM {quoted(engine, anchors.tables.anchors)}")[0][0]
    print(f"\n## {TITLES[name]}, {given.rows:,} rows\n")
    print(
        f"{laid:,} anchors, built in {built_s:.1f} s ({built_s / count_s:.1f}× a count by the "
        f"index, {count_s:.2f} s){stored(engine, name, anchors)}."
    )
    ladders = []
    for log in (0, 1_000, 10_000):
        change(engine, anchors, given.rows, log)
        ladders.append(jumps(engine, made, anchors, given))
    table(ladders)
    print(alone(engine, anchors))
    folded_s, folded = 0.0, 0
    while True:
        began = perf_counter()
        many = fold(engine, anchors)
        if not many:
            break
        folded_s, folded = folded_s + perf_counter() - began, folded + many
    print(f"\nFolded {folded / folded_s:,.0f} log rows a second. ", end="")
    print(reads(engine, made, given), end=" ")
    count_s = min(timed(lambda: count(engine, name)) for _ in range(2))  # of the table as it is now
    began = perf_counter()
    off = verify(engine, anchors, {})
    spent = perf_counter() - began
    print(f"Verified in {spent / count_s:.1f}× a count: {sum(map(bool, off))} of {len(off):,} "
          "segments off.")  # fmt: skip
    drop(engine, anchors)
    parted(engine, given)
    periods(engine, given)


TITLES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}


def fill(engine, name, rows):
    with engine.begin() as connection:
        big.drop(connection, checkfirst=True)
        big.create(connection)
        for index in list(big.indexes):
            index.drop(connection)
    g = G[name]
    wide = f"CAST({g} AS bigint)" if name == "postgresql" else g
    for low in range(1, rows + 1, 500_000):
        high = min(low + 499_999, rows)
        run(engine, FILL[name].format(low=low, high=high, g=g, wide=wide))
    for index in sorted(big.indexes, key=lambda index: index.name):
        with engine.begin() as connection:
            index.create(connection)
    if name == "postgresql":  # as autovacuum leaves a table: keys are then read from indexes alone
        with engine.connect() as raw:
            plain = raw.execution_options(isolation_level="AUTOCOMMIT")
            plain.execute(text("VACUUM ANALYZE big"))
            plain.execute(text("CHECKPOINT"))
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


def quoted(engine, table_):
    return engine.dialect.identifier_preparer.format_table(table_)


def timed(way):
    began = perf_counter()
    way()
    return perf_counter() - began


def change(engine, anchors, rows, many):
    """Delete and insert rows evenly, so that the log holds about so many."""
    have = run(engine, f"SELECT count(*) FROM {quoted(engine, anchors.tables.log)}")[0][0]
    step = max(rows // max((many - have) // 2, 1), 1)
    if many > have:
        run(engine, f"DELETE FROM big WHERE id % {step} = 7 % {step}")
        run(engine, f"INSERT INTO big SELECT -2 * id - {many > 1_000:d}, st, a, b, at, pad FROM "
            f"big WHERE id > 0 AND id % {step} = 9 % {step}")  # fmt: skip


def alone(engine, anchors):
    """Say what counting and summing the log takes by itself: no exact number can do without."""
    log = quoted(engine, anchors.tables.log)
    with engine.connect() as connection:
        asked = text(f"SELECT count(*), sum(d) FROM {log}")
        rows = connection.execute(asked).one()[0]
        least = min(timed(lambda: connection.execute(asked).all()) for _ in range(40))
    return f"\nCounting and summing {rows:,} log rows takes {least * 1e3:.2f} ms by itself."


def stored(engine, name, anchors):
    """Say how large the anchors are beside the index they stand for, where the engine tells."""
    if name != "postgresql":
        return ""
    size = f"SELECT pg_total_relation_size('{quoted(engine, anchors.tables.anchors)}')"
    index = run(engine, "SELECT pg_relation_size('big_ab')")[0][0]
    return f", {run(engine, size)[0][0] / index:.2%} of the index's size"


def jumps(engine, made, anchors, given, params=None):
    """Time jumps to pages, the total and a rank beside a known key; a dict of times by way."""
    asked = {"params": params} if params else {}
    plain = made.changed(jumps="offset", total="none")
    with engine.connect() as connection:
        pages = -(-made.changed(jumps="offset").read(connection, **asked).total.value // 25)
        by = plain if given.offset else made
        middle = by.read(connection, Spot.number(pages // 2), **asked)
        behind, key = middle.next, middle.keys[0]

        def by_offset():
            plain.read(connection, Spot.number(pages // 2), **asked)

        offset_s = min(timed(by_offset) for _ in range(2)) if given.offset else None
    depths = {"1": 1, "100": 100, "10,000": 10_000, "middle": pages // 2, "last": pages}
    ways = {
        f"page {title}": (lambda at=at: made.read(engine, Spot.number(at), **asked))
        for title, at in depths.items()
        if at <= pages
    }
    ways["a known key"] = lambda: plain.read(engine, behind, **asked)

    def with_places(ask):
        def way():
            with engine.connect() as raw:
                ask(AnchorLookup(anchors, begin_snapshot(raw), params))

        return way

    ways["total"] = with_places(lambda lookup: lookup.total())
    ways["rank"] = with_places(lambda lookup: lookup.rank(key))
    times = {title: [] for title in ways}
    for _ in range(given.turns):
        for title in random.sample(list(ways), len(ways)):
            times[title].append(timed(ways[title]))
    if offset_s is not None:
        times["OFFSET at the middle"] = [offset_s]
    return times


def table(ladders, heads=("log empty", "1,000 log rows", "10,000 log rows")):
    print(f"\n| | {' | '.join(heads)} |\n|---|{'---:|' * len(heads)}")
    for title in ladders[0]:
        cells = []
        for times in ladders:
            least, usual = min(times[title]) * 1e3, median(times[title]) * 1e3
            ratio = least / (min(times["a known key"]) * 1e3)
            if title == "OFFSET at the middle":
                cells.append(f"{least:,.0f}")
            else:
                cells.append(f"{least:.2f} / {usual:.2f} ({ratio:.1f}×)")
        print(f"| {title} | {' | '.join(cells)} |")


def reads(engine, made, given):
    """Say what a jump to the middle reads, in the engine's counters, once anchors are known."""
    spot = Spot.number(given.rows // 50)
    with engine.connect() as raw:
        connection = begin_snapshot(raw)
        made.read(connection, spot)
        found = count_reads(connection, lambda: made.read(connection, spot))
    if engine.dialect.name == "postgresql":
        return f"A jump to the middle reads {found.entries:,} entries, {found.blocks:,} buffers."
    unit = "steps" if engine.dialect.name == "sqlite" else "entries"
    return f"A jump to the middle reads {found.entries:,} {unit}."


def parted(engine, given):
    """One of fifty parts, with anchors of its own."""
    made = listing(big.c.st == bindparam("st"))
    anchors = set_of(engine, made)
    create(engine, anchors)
    built_s = timed(lambda: build(engine, anchors))
    found = jumps(engine, made, anchors, given, {"st": 7})
    print(f"\nOne of fifty parts (`st = :st`), all of them built in {built_s:.1f} s:")
    table([found], ("log empty",))
    drop(engine, anchors)


def periods(engine, given):
    """Sixty months with their rows."""
    made = listing(orders="-at", periods="at")
    anchors = set_of(engine, made)
    create(engine, anchors)
    build(engine, anchors)
    plain = made.changed(jumps="offset")
    with engine.connect() as raw:
        connection = begin_snapshot(raw)
        ways = {
            "counted": lambda: plain.periods(connection, "month", counts=True),
            "by anchors": lambda: made.periods(connection, "month", counts=True),
            "without rows": lambda: made.periods(connection, "month"),
        }
        months = len(made.periods(connection, "month", counts=True))
        assert made.periods(connection, "month", counts=True) == plain.periods(
            connection, "month", counts=True
        )
        times = {title: min(timed(way) for _ in range(5)) * 1e3 for title, way in ways.items()}
    told = ", ".join(f"{title} {ms:,.0f} ms" for title, ms in times.items())
    print(f"\n{months} months with their rows: {told}.")
    drop(engine, anchors)


def made_up(engine, name, given):
    """Look up among anchors of rows that are not there: located, and summed up to a key."""
    made = listing()
    anchors = set_of(engine, made)
    create(engine, anchors)
    stored_in, laid = anchors.tables.anchors, 0
    every = given.made_up // 1_000
    for level, step in ((1, 1), (2, 100), (3, 10_000)):
        rows = [
            {"lvl": level, "n": 1_000 * step, "k0": i, "k1": i % 1_009, "k2": i}
            for i in range(step, every + 1, step)
        ]
        laid += len(rows)
        for begin in range(0, len(rows), 50_000):
            with engine.begin() as connection:
                connection.execute(insert(stored_in), rows[begin : begin + 50_000])
    with engine.begin() as connection:
        renew(connection, anchors, static=False)
    analyze = "ANALYZE TABLE" if name == "mariadb" else "ANALYZE"
    run(engine, f"{analyze} {quoted(engine, stored_in)}")
    draw = random.Random(1)
    times = {"located": [], "located, remembered": [], "summed up to a key": []}
    wrong = 0
    for _ in range(given.turns):
        offset = draw.randrange(1_000 * every)
        with engine.connect() as raw:
            connection = begin_snapshot(raw)
            for title in ("located", "located, remembered"):
                if title == "located":
                    anchors.remembered.clear()
                lookup = AnchorLookup(anchors, connection, {})
                began = perf_counter()
                known = lookup._remembered()
                count = known.at_offset(offset, lookup.behind)
                times[title].append(perf_counter() - began)
                wrong += count.rows != offset // 1_000 * 1_000
            anchors.remembered.clear()
            lookup = AnchorLookup(anchors, connection, {})
            at = offset // 1_000 + 1
            began = perf_counter()
            key = (at, at % 1_009, at)
            count = lookup._remembered().ahead_of(key, lambda level: None, lookup.behind)
            times["summed up to a key"].append(perf_counter() - began)
            wrong += count.rows != (at - 1) * 1_000
    told = "; ".join(
        f"{title} in {min(found) * 1e3:.2f} / {median(found) * 1e3:.2f} ms"
        for title, found in times.items()
    )
    print(f"\n{TITLES[name]}, {laid:,} made-up anchors of {given.made_up:,} rows: {told}; "
          f"{wrong} of {3 * given.turns} wrong.")  # fmt: skip
    drop(engine, anchors)


def price(engine, name, given):
    """Rows inserted, moved and deleted a second by writers, with triggers and without, in turn."""
    made = listing(orders=["a,b", "-at", "b"])
    with engine.connect() as connection:
        several = [anchor_set(made.settings, connection, order) for order in ("a,b", "-at", "b")]
    ways = {"plain": [], "one order": several[:1], "three orders": several}
    rates = {title: [] for title in ways}
    for turn in range(4):
        for title, sets in ways.items():
            for anchors in several:
                drop(engine, anchors)
            for anchors in sets:
                create(engine, anchors)
            rates[title].append(rate(given, turn))
    for anchors in several:
        drop(engine, anchors)
    plain, *logged = (median(found) for found in rates.values())
    told = ", ".join(
        f"{one:,.0f} with a log for {title} ({plain / one:.2f}×)"
        for one, title in zip(logged, list(ways)[1:], strict=True)
    )
    print(f"\n{TITLES[name]}, {given.writers} writers, single rows: {plain:,.0f} changes a second "
          f"plain, {told}.")  # fmt: skip


def keeping_up(engine, name, given, seconds=20.0):
    """Bulk statements of another process at a steady rate, and a fold worker beside them."""
    anchors = set_of(engine, listing())
    create(engine, anchors)
    build(engine, anchors)
    asked = f"SELECT count(*) FROM {quoted(engine, anchors.tables.log)}"
    until, waiting, folded = time.time() + seconds, [], 0
    context = multiprocessing.get_context("spawn")
    with context.Pool(1) as pool:
        job = pool.apply_async(write_in_bulk, (given.url, until, given.bulk, given.rows))
        while not job.ready():
            try:
                folded += fold(engine, anchors, 20_000)
            except vrelko.errors.DatabaseError:  # SQLite: the writer has the file
                continue
            if time.time() < until:
                waiting.append(run(engine, asked)[0][0])
        changed, spent = job.get()
    left = run(engine, asked)[0][0]
    while many := fold(engine, anchors, 20_000):
        folded += many
    print(f"\n{TITLES[name]}: {changed / spent:,.0f} rows a second changed in bulk for {spent:.0f} "
          f"s; in the log at most {max(waiting):,} rows, at the end {left:,}; {folded:,} folded, "
          f"{sum(map(bool, verify(engine, anchors, {})))} segments off.")  # fmt: skip
    drop(engine, anchors)


def write_in_bulk(url, until, rate, rows, batch=5_000):
    """Insert and delete some thousand rows in turn, no faster than so many a second."""
    engine, changed, began, step = open_database(url, read_only=False), 0, perf_counter(), 0
    while time.time() < until:
        low = 10 * rows + step * batch
        chosen = f"SELECT id + {low}, st, a, b, at, pad FROM big WHERE id BETWEEN 1 AND {batch}"
        run(engine, f"INSERT INTO big {chosen}")
        run(engine, f"DELETE FROM big WHERE id > {low} AND id <= {low + batch} AND id % 2 = 1")
        changed, step = changed + batch + batch // 2, step + 1
        time.sleep(max(changed / rate - (perf_counter() - began), 0))
    return changed, perf_counter() - began


def rate(given, turn, seconds=3.0):
    context = multiprocessing.get_context("spawn")
    with context.Pool(given.writers) as pool:
        jobs = [(given.url, turn * 100 + i, seconds) for i in range(given.writers)]
        return sum(pool.map(write, jobs)) / seconds


def write(job):
    """Insert, move and delete rows of its own, each in a transaction; return how many changes."""
    url, seed, seconds = job
    engine = open_database(url, read_only=False)
    draw, done = random.Random(seed), 0
    first = -2_000_000_000 + seed * 1_000_000
    until = time.time() + seconds
    with engine.connect() as connection:
        while time.time() < until:
            row = {"id": first + done, "st": 1, "a": draw.randrange(100_003), "b": 7, "pad": "x"}
            connection.execute(
                text("INSERT INTO big VALUES (:id, :st, :a, :b, '2024-02-02 00:00:00', :pad)"), row
            )
            connection.commit()
            connection.execute(text("UPDATE big SET b = 8 WHERE id = :id"), row)
            connection.commit()
            connection.execute(text("UPDATE big SET pad = 'y' WHERE id = :id"), row)
            connection.commit()
            connection.execute(text("DELETE FROM big WHERE id = :id"), row)
            connection.commit()
            done += 4
    engine.dispose()
    return done


if __name__ == "__main__":
    main()
