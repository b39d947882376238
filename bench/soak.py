"""Walks while others write: what readers by key and by offset suffer, counted from write logs.

    python bench/soak.py [WALKS]

On SQLite, PostgreSQL and MariaDB, three writers insert, delete and move rows as fast as they can,
each logging what it touches; readers walk the same table by key, by offset and under a ceiling,
WALKS walks each. A row that was there at the start of a walk and that no writer touched until its
end must be served exactly once. On the servers the backend of the reader by key is terminated now
and then; its walk goes on from where it was.
"""

from __future__ import annotations

import random
import sys
import tempfile
import time
from pathlib import Path

from sqlalchemy import (
    BigInteger,
    Column,
    Index,
    Integer,
    MetaData,
    Table,
    create_engine,
    insert,
    select,
    text,
)

import vrelko
from vrelko import Depth, Readers, Sizes, Writers
from vrelko.measuring.concurrent import Crowd, run_crowd

URLS = (
    "postgresql+psycopg://postgres@127.0.0.1/vrelko_bench",
    "mysql+pymysql://root@127.0.0.1/vrelko_bench",
)
t = Table(
    "soak",
    MetaData(),
    Column("id", BigInteger, primary_key=True),
    Column("hour", Integer, nullable=False),
    Index("soak_by_hour", "hour", "id"),
)
ROWS, SIZE, PAGES, SPAN = 4_000, 20, 15, 400


def source(path):
    """A table of hours, many rows of each."""
    engine = create_engine(f"sqlite:///{path}")
    t.create(engine)
    rng = random.Random(0)
    rows = [{"id": i, "hour": rng.randrange(SPAN)} for i in range(1, ROWS + 1)]
    with engine.begin() as connection:
        connection.execute(insert(t), rows)
    return engine


def terminator(engine):
    """Return what ends a reader's backend from another one now and then, as an administrator."""
    own, kill = "SELECT connection_id()", "KILL :b"
    if engine.dialect.name == "postgresql":
        own, kill = "SELECT pg_backend_pid()", "SELECT pg_terminate_backend(:b)"
    rng = random.Random(5)

    def disturb(connection):
        if rng.random() < 0.0005:
            backend = connection.execute(text(own)).scalar()
            with engine.connect() as other:
                other.execute(text(kill), {"b": backend})

    return disturb


def soak(engine, copy, walks, disturb=None):
    listing = vrelko.Listing(
        select(t), name="soak", orders="-hour", sizes=Sizes(SIZE), total="none"
    )
    plan = vrelko.plan(
        listing,
        vrelko.survey(engine, listing),
        Readers(dwell_s=1, depth=Depth(PAGES)),
        Writers(60, 60, moves_per_minute=60, moving=("hour",)),
    )
    began = time.monotonic()
    found = run_crowd(engine, plan, Crowd(walks=walks, pages=PAGES, disturb=disturb), copy)
    name = "sqlite" if copy is None else copy.dialect.name
    print(f"{name}, {time.monotonic() - began:.0f} s beside {found[0].writes:,} writes")
    for one in found:
        print(
            f"  {one.strategy:<8} {one.walks:>7,} walks over {one.untouched:>11,} untouched rows: "
            f"{one.repeats:>9,} repeats of a version, {one.misses:>7,} misses"
            + (f", {one.resumed:,} broken connections" if one.resumed else "")
        )


def main(walks):
    with tempfile.TemporaryDirectory(prefix="vrelko-soak-") as folder:
        engine = source(Path(folder) / "soak.db")
        soak(engine, None, walks)
        for url in URLS:
            copy = create_engine(url, pool_size=8)
            soak(engine, copy, walks, terminator(copy))
            copy.dispose()
        engine.dispose()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 300)
