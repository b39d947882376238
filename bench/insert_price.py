"""What an index adds to an insert, in microseconds, beside what a plan says of it.

    python bench/insert_price.py [URL ...] [--rows 300000] [--rounds 9] [--batch 4000]

A table without any index but its key, and for each index in turn a copy of it that has the index;
batches of new rows are inserted into both by one statement, in turn. The figure is the median over
rounds of (time with the index less time without it) per row. Prints a Markdown table.
"""

from __future__ import annotations

import argparse
import random
import statistics
import sys
import tempfile
from pathlib import Path
from time import perf_counter

sys.path.insert(0, str(Path(__file__).parent))

from bounds import SERVERS, open_database
from sqlalchemy import text

import vrelko
from vrelko.core.index import IndexColumn, IndexFacts
from vrelko.core.insert_price import insert_us

INDEXES = {
    "time, growing": "at_, id",
    "time, growing, newest first": "at_ DESC, id DESC",
    "time, a little out of order": "near_, id",
    "20 groups, then time": "few, at_, id",
    "5,000 groups, then time": "many, at_, id",
    "integer at random": "hash, id",
    "text of 20 at random": "name, id",
    "text of 60 at random": "long_, id",
    "20 groups, text of 20": "few, name, id",
    "20 groups alone": "few, id",
}
BODY = (
    "(id INTEGER NOT NULL PRIMARY KEY, at_ INTEGER NOT NULL, near_ INTEGER NOT NULL, "
    "few INTEGER NOT NULL, many INTEGER NOT NULL, hash INTEGER NOT NULL, "
    "name VARCHAR(20) NOT NULL, long_ VARCHAR(60) NOT NULL)"
)
COLUMNS = "id, at_, near_, few, many, hash, name, long_"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("urls", nargs="*")
    parser.add_argument("--rows", type=int, default=300_000)
    parser.add_argument("--rounds", type=int, default=9)
    parser.add_argument("--batch", type=int, default=4_000)
    given = parser.parse_args()
    folder = tempfile.TemporaryDirectory(prefix="vrelko-bench-")
    urls = given.urls or [f"sqlite:///{Path(folder.name) / 'insert.db'}", *SERVERS]
    print("| engine | index | measured µs | planned µs | apart |\n|---|---|---:|---:|---:|")
    for url in urls:
        engine = open_database(url)
        make(engine, given.rows, given.rounds * given.batch)
        facts = vrelko.survey(engine, "price_0")
        for title, columns in INDEXES.items():
            measured = measure(engine, columns, given.rounds, given.batch)
            planned = price(facts, columns)
            apart = max(planned / max(measured, 0.01), measured / planned)
            print(
                f"| {facts.server.engine} | {title} | {measured:.1f} | {planned:.1f} | "
                f"{apart:.1f}× |",
                flush=True,
            )
        drop(engine)
        engine.dispose()


def price(facts, columns):
    table = facts.tables[0]
    parts = [part.strip().split() for part in columns.split(",")]
    names = tuple(IndexColumn(part[0], len(part) > 1) for part in parts)
    entry = sum(table.column(part[0]).width or 8.0 for part in parts) + 12.0
    return insert_us(IndexFacts("i", names, entry_bytes=entry), table, facts.server)


def make(engine, rows, more):
    rng = random.Random(4)
    drop(engine)
    made = []
    for i in range(rows + more):
        name = "".join(rng.choices("abcdefghijklmnopqrstuvwxyz", k=20))
        made.append(
            {
                "id": i + 1,
                "at_": 1_700_000_000 + 7 * i,
                "near_": 1_700_000_000 + 7 * i + rng.randrange(7_000),
                "few": rng.randrange(20),
                "many": rng.randrange(5_000),
                "hash": rng.randrange(2_000_000_000),
                "name": name,
                "long_": name * 3,
            }
        )
    marks = ", ".join(f":{name.strip()}" for name in COLUMNS.split(","))
    with engine.begin() as connection:
        for name in ("price_0", "price_new"):
            connection.execute(text(f"CREATE TABLE {name} {BODY}"))
        for i in range(0, len(made), 10_000):
            for name, part in (
                ("price_0", made[i : min(i + 10_000, rows)]),
                ("price_new", made[max(i, rows) : i + 10_000]),
            ):
                if part:
                    connection.execute(text(f"INSERT INTO {name} VALUES ({marks})"), part)


def measure(engine, columns, rounds, batch):
    """Return the microseconds that an index of `columns` adds to an insert."""
    copy_with_index(engine, columns)
    found = []
    with engine.connect() as connection:
        first = connection.execute(text("SELECT min(id) FROM price_new")).scalar()
        for r in range(rounds):
            low = first + r * batch
            new = f"SELECT * FROM price_new WHERE id >= {low} AND id < {low + batch} ORDER BY id"
            took = {}
            for name in ("price_0", "price_1") if r % 2 else ("price_1", "price_0"):
                connection.execute(text(f"SELECT count(*) FROM ({new}) AS new_")).scalar()
                began = perf_counter()
                connection.execute(text(f"INSERT INTO {name} {new}"))
                took[name] = (perf_counter() - began) / batch * 1e6
                connection.commit()
            found.append(took["price_1"] - took["price_0"])
        connection.execute(text(f"DELETE FROM price_0 WHERE id >= {first}"))
        connection.commit()
    return statistics.median(found)


def copy_with_index(engine, columns):
    with engine.begin() as connection:
        connection.execute(text("DROP TABLE IF EXISTS price_1"))
        connection.execute(text(f"CREATE TABLE price_1 {BODY}"))
        connection.execute(text("INSERT INTO price_1 SELECT * FROM price_0 ORDER BY id"))
        connection.execute(text(f"CREATE INDEX price_i1 ON price_1 ({columns})"))
    if engine.dialect.name == "postgresql":
        with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.execute(text("VACUUM ANALYZE price_0"))
            connection.execute(text("CHECKPOINT"))


def drop(engine):
    with engine.begin() as connection:
        for name in ("price_new", "price_0", "price_1"):
            connection.execute(text(f"DROP TABLE IF EXISTS {name}"))


if __name__ == "__main__":
    main()
