"""How many entries a page of 25 reads at any depth of a million rows, by order shape and engine.

    python bench/bounds.py [URL ...]      (default: SQLite, and local PostgreSQL and MariaDB)

Every shape has an index that fits. Entries are counted by `vrelko.engines.counters`; the figure is
the largest over six depths, forward and backward. Prints a Markdown table.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

from million import ROWS, m, make
from sqlalchemy import create_engine, select, text

import vrelko
from vrelko import Sizes, Spot
from vrelko.engines.counters import count_reads

SERVERS = {
    "postgresql+psycopg://postgres@127.0.0.1/vrelko_bench": "postgres",
    "mysql+pymysql://root@127.0.0.1/vrelko_bench": "",
}
c = m.c
SHAPES = {
    "hour, id": ("hour,id", None),
    "-hour, -id": ("-hour,-id", None),
    "-hour, id (mixed)": ("-hour,id", None),
    "weight, id: native NULLs": ("weight,id", None),
    "-weight, -id: native NULLs": ("-weight,-id", None),
    "weight:nulls-first, id": ("weight:nulls-first,id", None),
    "weight:nulls-last, id": ("weight:nulls-last,id", None),
    "-weight:nulls-first, -id": ("-weight:nulls-first,-id", None),
    "-weight:nulls-last, -id": ("-weight:nulls-last,-id", None),
    "status, id: 500,000 rows a tie": ("status,id", None),
    "species, status, hour, id": ("species,status,hour,id", None),
    "station = 57 (0.5 %): hour, id": ("hour,id", c.station == 57),
    "station = 57 (0.5 %): -hour, -id": ("-hour,-id", c.station == 57),
    "status = 0 (50 %): hour, id": ("hour,id", c.status == 0),
    "status = 0 (50 %): -hour, -id": ("-hour,-id", c.status == 0),
    "station IN (3 values): hour, id": ("hour,id", c.station.in_([57, 58, 59])),
    "species < 100 (residual, 60 %): hour, id": ("hour,id", c.species < 100),
}


def main(urls):
    folder = tempfile.TemporaryDirectory(prefix="vrelko-bench-")
    if not urls:
        urls = [f"sqlite:///{Path(folder.name) / 'million.db'}", *SERVERS]
    found = {}
    for url in urls:
        engine = open_database(url)
        make(engine)
        with engine.connect() as connection:
            for title, (order, where) in SHAPES.items():
                found.setdefault(title, {})[engine.dialect.name] = worst(connection, order, where)
        engine.dispose()
    names = list(next(iter(found.values())))
    print("| order | " + " | ".join(names) + " |\n|---|" + "---:|" * len(names))
    for title, counts in found.items():
        print(f"| {title} | " + " | ".join(counts[name] for name in names) + " |")


def open_database(url):
    engine = create_engine(url)
    admins = {"postgresql": "postgres", "mariadb": "", "mysql": ""}
    if engine.dialect.name in admins and str(engine.url.database).startswith("vrelko_"):
        admin = create_engine(
            engine.url.set(database=admins[engine.dialect.name]), isolation_level="AUTOCOMMIT"
        )
        with admin.connect() as connection:
            try:
                connection.execute(text(f"CREATE DATABASE {engine.url.database}"))
            except Exception as error:
                if "exists" not in str(error):
                    raise
        admin.dispose()
    return engine


def worst(connection, order, where):
    whole = select(c.id, c.note, c.hour) if where is None else select(c.id, c.note).where(where)
    listing = vrelko.Listing(
        whole, orders=order, total="none", sizes=Sizes(25, max=25), expose=True
    )
    rows = connection.scalar(select(text("count(*)")).select_from(whole.subquery()))
    most = blocks = statements = 0
    pages = [None]
    for share in (0.001, 0.2, 0.5, 0.8, 0.99):
        page = listing.read(connection, Spot.offset(int(rows * share)), size=25)
        pages += [page.next, page.prev, page.after, page.before]
    for cursor in pages:
        reads = count_reads(connection, lambda cursor=cursor: listing.read(connection, cursor))
        most = max(most, reads.entries)
        blocks = max(blocks, reads.blocks or 0)
        statements = max(statements, reads.statements)
    return f"{most:,}" + (f" ({blocks} buffers)" if blocks else "")


if __name__ == "__main__":
    print(f"{ROWS:,} rows, page of 25\n")
    main(sys.argv[1:])
