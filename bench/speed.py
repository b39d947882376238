"""What serving adds: a page against the statement by hand, a walk against one streaming select.

    python bench/speed.py [URL ...]     (default: SQLite, and local PostgreSQL and MariaDB)

Everything is a ratio within one run; ways are timed side by side, so that noise hits all alike.
"""

from __future__ import annotations

import gc
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median
from time import perf_counter

from bounds import SERVERS, open_database
from million import ROWS, m, make
from sqlalchemy import Integer, bindparam, select, tuple_

import vrelko
from vrelko import Sizes, Spot

c = m.c


def main(urls):
    imports()
    folder = tempfile.TemporaryDirectory(prefix="vrelko-bench-")
    for url in urls or [f"sqlite:///{Path(folder.name) / 'million.db'}", *SERVERS]:
        engine = open_database(url)
        make(engine)
        print(f"\n{engine.dialect.name}")
        with engine.connect() as connection:
            page(connection)
            walk(connection)
        engine.dispose()


def imports():
    times = {"sqlalchemy": [], "vrelko; vrelko.Listing": []}
    for _ in range(7):
        for what, found in times.items():
            code = "import " + what
            began = perf_counter()
            subprocess.run([sys.executable, "-c", code], check=True)
            found.append(perf_counter() - began)
    base = min(times["sqlalchemy"])
    for what, found in times.items():
        print(f"import {what:<28} {min(found) * 1e3:>6.0f} ms {min(found) / base:>5.2f}×")


def page(connection):
    whole = select(c.id, c.hour, c.weight, c.note).where(c.station == bindparam("station"))
    listing = vrelko.Listing(
        whole, name="m", orders="-hour", sizes=Sizes(25), total="none", secrets=[b"x" * 32]
    )
    params = {"station": 57}
    reached = listing.read(connection, Spot.offset(500), params=params)
    cursor, key = reached.next, reached.keys[-1]

    def from_elsewhere():
        listing.settings.book._known.clear()  # as in a process that did not write the cursor
        return listing.read(connection, cursor, params=params)

    def by_hand():
        columns = tuple_(c.hour, c.id)
        values = tuple_(bindparam("x", type_=Integer), bindparam("y", type_=Integer))
        where = columns < values
        if connection.dialect.name in ("mysql", "mariadb"):
            x, y = bindparam("x", type_=Integer), bindparam("y", type_=Integer)
            where = ((c.hour == x) & (c.id < y)) | (c.hour < x)
        return whole.where(where).order_by(c.hour.desc(), c.id.desc()).limit(26)

    once = by_hand()
    values = {**params, "x": key[0], "y": key[1]}
    ways = {
        "by hand, built once": lambda: connection.execute(once, values).all(),
        "by hand, built each time": lambda: connection.execute(by_hand(), values).all(),
        "Listing.read": lambda: listing.read(connection, cursor, params=params),
        "of another process": from_elsewhere,
        "Listing.read and next": lambda: listing.read(connection, cursor, params=params).next,
    }
    print("  page after page of one kind, 50 at a time")
    tell(ways, turns=24, block=50)
    print("  one of each kind after the other: each begins with the caches of another")
    tell(ways, turns=1_200, block=1)


def tell(ways, turns, block):
    times = {name: [] for name in ways}
    gc.disable()
    for turn in range(turns):
        for name, way in ways.items():
            for _ in range(block):
                began = perf_counter()
                way()
                if turn >= turns // 6:
                    times[name].append(perf_counter() - began)
    gc.enable()
    base = median(times["by hand, built once"])
    each = median(times["by hand, built each time"])
    for name, found in times.items():
        t = median(found)
        print(
            f"  {name:<26} {t * 1e6:>7.0f} µs  {(t - base) * 1e6:>+6.0f} µs "
            f"{t / base:>6.2f}× {t / each:>6.2f}× built each time"
        )


def walk(connection):
    listing = vrelko.Listing(
        select(c.id, c.hour, c.note), name="m", orders="hour", total="none", sizes=Sizes(25)
    )
    plain = select(c.id, c.hour, c.note).order_by(c.hour, c.id)

    def streaming():
        options = {"stream_results": True, "max_row_buffer": 1_000}
        with connection.execution_options(**options).execute(plain) as result:
            return sum(len(part) for part in result.partitions(1_000))

    def paged(fresh):
        return sum(len(batch) for batch in listing.walk(connection, size=1_000, fresh=fresh))

    ways = {
        "one streaming select": streaming,
        "walk in batches of 1,000": lambda: paged(False),
        "walk, fresh batches": lambda: paged(True),
    }
    times = {name: [] for name in ways}
    for _ in range(5):
        for name, way in ways.items():
            began = perf_counter()
            assert way() == ROWS
            times[name].append(perf_counter() - began)
    base = times["one streaming select"]
    for name, found in times.items():  # a turn's ways beside each other: speed drifts by the minute
        ratios = [mine / stream for mine, stream in zip(found, base, strict=True)]
        print(f"  {name:<26} {min(found):>7.2f} s  {median(ratios):>6.2f}×")


if __name__ == "__main__":
    main(sys.argv[1:])
