"""Walks while others write: what readers by key and by offset suffer, counted from write logs.

    python bench/soak.py [seconds an engine]

On PostgreSQL and MariaDB, three writers insert, delete and move rows as fast as they can, each
logging what it touches; readers walk the same table by key and by offset. A row that was there at
the start of a walk and that no writer touched until its end must be served exactly once. Backends
are terminated mid-walk now and then; the walk goes on from its last cursor.
"""

from __future__ import annotations

import random
import sys
import threading
import time
from collections import Counter

from sqlalchemy import (
    BigInteger,
    Column,
    Index,
    Integer,
    MetaData,
    Table,
    create_engine,
    delete,
    insert,
    select,
    text,
    update,
)

import vrelko
from vrelko import Sizes
from vrelko.errors import DatabaseError

URLS = (
    "postgresql+psycopg://postgres@127.0.0.1/vrelko_bench",
    "mysql+pymysql://root@127.0.0.1/vrelko_bench",
)
t = Table(
    "soak", MetaData(), Column("id", BigInteger, primary_key=True),
    Column("hour", Integer, nullable=False), Index("soak_by_hour", "hour", "id"),
)  # fmt: skip
ROWS, SIZE, SPAN = 4_000, 50, 400


class Log:
    """Who touched which row when: from before the statement until after its commit."""

    def __init__(self):
        self.lock = threading.Lock()
        self.entries = []

    def note(self, row, began):
        with self.lock:
            self.entries.append((row, began, time.monotonic()))

    def touched(self, began, ended):
        with self.lock:
            return {row for row, start, end in self.entries if end >= began and start <= ended}


def write(engine, log, stop, seed, counts):
    rng = random.Random(seed)
    fresh = 1_000_000 * seed
    while not stop.is_set():
        with engine.begin() as connection:
            row, began = rng.randrange(1, ROWS), time.monotonic()
            kind = rng.randrange(3)
            if kind == 0:
                row = fresh = fresh + 1
                connection.execute(insert(t), {"id": row, "hour": rng.randrange(SPAN)})
            elif kind == 1:
                row = rng.randrange(1_000_000 * seed, fresh + 1)
                connection.execute(delete(t).where(t.c.id == row))
            else:
                hour = rng.randrange(SPAN)
                connection.execute(update(t).where(t.c.id == row).values(hour=hour))
        log.note(row, began)
        counts["writes"] += 1


def walk(engine, strategy, log, counts, kill):
    listing = vrelko.Listing(
        select(t), name="soak", orders="-hour", sizes=Sizes(SIZE), strategy=strategy, total="none"
    )
    began, served, cursor = time.monotonic(), [], None
    with engine.connect() as connection:
        before = {row.id: row.hour for row in connection.execute(select(t))}
    connection = engine.connect()
    while True:
        try:
            page = listing.read(connection, cursor)
        except DatabaseError:
            counts["resumed"] += 1
            connection.invalidate()
            connection.close()
            connection = engine.connect()
            continue
        served += [tuple(row) for row in page]
        connection.rollback()  # a new snapshot for each page
        cursor = page.next
        if cursor is None:
            break
        if kill and random.random() < 0.01:
            terminate(engine, connection)
    connection.close()
    ended = time.monotonic()
    time.sleep(0.05)  # commits under way at the end are logged by then
    untouched = before.keys() - log.touched(began, ended)
    times = Counter(served)
    ids = Counter(row for row, _ in served)
    counts[f"{strategy} walks"] += 1
    counts[f"{strategy} repeats of a version"] += sum(n - 1 for n in times.values())
    counts[f"{strategy} misses"] += sum(ids[row] == 0 for row in untouched)
    counts[f"{strategy} untouched rows"] += len(untouched)


def terminate(engine, connection):
    """End the reader's backend from another one, as an administrator would."""
    postgresql = engine.dialect.name == "postgresql"
    own = "SELECT pg_backend_pid()" if postgresql else "SELECT connection_id()"
    backend = connection.execute(text(own)).scalar()
    with engine.connect() as other:
        kill = "SELECT pg_terminate_backend(:b)" if postgresql else "KILL :b"
        other.execute(text(kill), {"b": backend})


def main(seconds):
    for url in URLS:
        engine = create_engine(url, pool_size=8)
        t.drop(engine, checkfirst=True)
        t.create(engine)
        rng = random.Random(0)
        with engine.begin() as connection:
            rows = [{"id": i, "hour": rng.randrange(SPAN)} for i in range(1, ROWS + 1)]
            connection.execute(insert(t), rows)
        log, stop, counts = Log(), threading.Event(), Counter()
        writers = [
            threading.Thread(target=write, args=(engine, log, stop, seed, counts))
            for seed in (1, 2, 3)
        ]
        for writer in writers:
            writer.start()
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            for strategy in ("keyset", "offset"):
                walk(engine, strategy, log, counts, kill=strategy == "keyset")
        stop.set()
        for writer in writers:
            writer.join()
        print(engine.dialect.name)
        for name, count in sorted(counts.items()):
            print(f"  {name:<32} {count:>10,}")
        t.drop(engine)
        engine.dispose()


if __name__ == "__main__":
    main(float(sys.argv[1]) if len(sys.argv) > 1 else 30)
