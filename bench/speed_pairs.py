"""Pages and walks of this checkout beside another one's, in interleaved pairs of processes.

    python bench/speed_pairs.py OTHER_CHECKOUT [PAIRS]     (default 15 pairs, SQLite in memory)

Prints the median of the ratios this / other, of each process its quietest moment. OTHER_CHECKOUT
is a folder with src/vrelko in it.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from statistics import median

CHILD = """
import gc, json
from statistics import median
from time import perf_counter
from sqlalchemy import Column, Integer, MetaData, String, Table, Index, create_engine, select
import vrelko
from vrelko import Sizes

m = Table("m", MetaData(), Column("id", Integer, primary_key=True),
          Column("hour", Integer, nullable=False), Column("note", String(40)),
          Index("by_hour", "hour", "id"))
engine = create_engine("sqlite://")
m.metadata.create_all(engine)
with engine.connect() as connection:
    rows = [{"id": i, "hour": i * 7919 % 5000, "note": "n" * (i % 40)} for i in range(50_000)]
    connection.execute(m.insert(), rows)
    listing = vrelko.Listing(select(m.c.id, m.c.hour, m.c.note), name="m", orders="-hour",
                             sizes=Sizes(25), total="none", secrets=[b"x" * 32])
    cursor = listing.read(connection).next
    gc.disable()
    pages = []
    for _ in range(2500):
        began = perf_counter()
        listing.read(connection, cursor).next
        pages.append(perf_counter() - began)
    walks = []
    for _ in range(9):
        began = perf_counter()
        assert sum(len(page) for page in listing.walk(connection, size=1_000)) == 50_000
        walks.append(perf_counter() - began)
blocks = [median(pages[i : i + 100]) for i in range(500, 2500, 100)]
print(json.dumps([min(blocks), min(walks)]))
"""


def run(checkout):
    """Return the seconds of a page and of a walk, in a process of its own."""
    env = {**os.environ, "PYTHONPATH": str(Path(checkout) / "src")}
    done = subprocess.run(
        [sys.executable, "-c", CHILD], env=env, check=True, capture_output=True, text=True
    )
    return json.loads(done.stdout)


def main(other, pairs=15):
    here = Path(__file__).parent.parent
    ratios = []
    for turn in range(int(pairs)):
        first, second = (here, other) if turn % 2 else (other, here)
        found = {str(one): run(one) for one in (first, second)}
        mine, theirs = found[str(here)], found[str(other)]
        ratios.append([a / b for a, b in zip(mine, theirs, strict=True)])
    for name, each in zip(
        ("page behind a cursor", "walk of 50,000 rows"), zip(*ratios, strict=True), strict=True
    ):
        print(
            f"{name:<22} this / other: median {median(each):.3f}, of {len(each)} pairs "
            f"{min(each):.3f} to {max(each):.3f}"
        )


if __name__ == "__main__":
    main(*sys.argv[1:])
