"""EXPLAIN outputs of real servers over odd tables, with what the statements really read.

    python tests/explained.py      writes tests/explained.json anew from the local servers

Each entry has the engine, the statement, what EXPLAIN said, the rows of the paged table and the
rows or entries that the statement read by the engine's own counters (VM steps on SQLite).
"""

from __future__ import annotations

import json
from pathlib import Path

from sqlalchemy import text

from servers import NAMES, open_server
from vrelko.engines.counters import count_reads
from vrelko.engines.explain import plan_in

PATH = Path(__file__).parent / "explained.json"
ROWS, PEOPLE = 20_000, 400

SERIES = {
    "sqlite": "(WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {last}) "
    "SELECT i FROM n) AS s",
    "postgresql": "generate_series(0, {last}) AS s(i)",
    "mariadb": "(SELECT seq AS i FROM seq_0_to_{last}) AS s",
}
MAKE = (
    "CREATE TABLE odd (id INTEGER PRIMARY KEY, few INTEGER, mid INTEGER, far INTEGER, "
    "note VARCHAR(80))",
    "CREATE TABLE person (id INTEGER PRIMARY KEY, region INTEGER, name VARCHAR(40))",
    "INSERT INTO odd SELECT i + 1, i % 7, (i * 37) % 500, (i * 7919) % 20011, 'x' FROM {odd}",
    "INSERT INTO person SELECT i, i % 8, 'y' FROM {person}",
    "CREATE INDEX odd_few ON odd (few, mid)",
    "CREATE INDEX odd_far ON odd (far, id)",
)
PARTS = {
    "postgresql": (
        "CREATE TABLE part (id INT, ts INT, PRIMARY KEY (id, ts)) PARTITION BY RANGE (ts)",
        *(f"CREATE TABLE part_{i} PARTITION OF part FOR VALUES FROM ({i * 5000}) "
          f"TO ({(i + 1) * 5000})" for i in range(4)),
        "INSERT INTO part SELECT i, i FROM {odd}", "CREATE INDEX part_ts ON part (ts, id)",
    ),
    "mariadb": (
        "CREATE TABLE part (id INT, ts INT, PRIMARY KEY (id, ts)) PARTITION BY RANGE (ts) ("
        + ", ".join(f"PARTITION p{i} VALUES LESS THAN ({(i + 1) * 5000})" for i in range(4)) + ")",
        "INSERT INTO part SELECT i, i FROM {odd}", "CREATE INDEX part_ts ON part (ts, id)",
    ),
    "sqlite": (),
}  # fmt: skip
STATEMENTS = {
    "in order": "SELECT * FROM odd ORDER BY far, id LIMIT 26",
    "backward": "SELECT * FROM odd ORDER BY far DESC, id DESC LIMIT 26",
    "deep": "SELECT * FROM odd ORDER BY far, id LIMIT 26 OFFSET 9000",
    "covering": "SELECT id, far FROM odd ORDER BY far, id LIMIT 26 OFFSET 9000",
    "without the tie-breaker": "SELECT * FROM odd ORDER BY few, mid, id LIMIT 26",
    "first term alone": "SELECT * FROM odd ORDER BY few, id LIMIT 26",
    "first term, another": "SELECT * FROM odd ORDER BY few, note, id LIMIT 26 OFFSET 300",
    "no index": "SELECT * FROM odd ORDER BY note, id LIMIT 26",
    "filter in the index": "SELECT * FROM odd WHERE few = 3 ORDER BY mid, id LIMIT 26",
    "filter outside": "SELECT * FROM odd WHERE note = 'x' ORDER BY far, id LIMIT 26",
    "filter against order": "SELECT * FROM odd WHERE few = 3 ORDER BY id LIMIT 26",
    "behind a key": "SELECT * FROM odd WHERE (far, id) > (9000, 1) ORDER BY far, id LIMIT 26",
    "key by OR": "SELECT * FROM odd WHERE far > 9000 OR (far = 9000 AND id > 1) "
    "ORDER BY far, id LIMIT 26",
    "set": "SELECT * FROM odd WHERE few IN (2, 5) ORDER BY far, id LIMIT 26",
    "either": "SELECT * FROM odd WHERE few = 2 OR far = 77 ORDER BY id LIMIT 26",
    "join": "SELECT odd.id, name FROM odd JOIN person ON person.id = odd.mid "
    "ORDER BY far, odd.id LIMIT 26",
    "outer join": "SELECT odd.id, name FROM odd LEFT JOIN person ON person.id = odd.mid "
    "ORDER BY far, odd.id LIMIT 26 OFFSET 500",
    "filter on the joined": "SELECT odd.id FROM odd JOIN person ON person.id = odd.mid "
    "WHERE region = 3 ORDER BY far, odd.id LIMIT 26",
    "subselect": "SELECT id, (SELECT max(name) FROM person WHERE person.id = odd.mid) "
    "FROM odd ORDER BY far, id LIMIT 26",
    "grouped": "SELECT few, count(*) FROM odd GROUP BY few ORDER BY few LIMIT 5",
    "distinct": "SELECT DISTINCT mid FROM odd ORDER BY mid LIMIT 26",
    "window": "SELECT id, row_number() OVER (ORDER BY far) FROM odd ORDER BY far LIMIT 26",
    "union": "SELECT id FROM odd WHERE few = 1 UNION ALL SELECT id FROM odd WHERE few = 2 "
    "ORDER BY id LIMIT 26",
    "count": "SELECT count(*) FROM odd WHERE few = 3",
    "deferred": "SELECT odd.* FROM odd JOIN (SELECT id FROM odd ORDER BY far, id LIMIT 26 "
    "OFFSET 9000) AS p ON p.id = odd.id ORDER BY far, odd.id",
}
OF_PARTS = {
    "parts by their column": "SELECT * FROM part ORDER BY ts, id LIMIT 26",
    "parts by another": "SELECT * FROM part ORDER BY id, ts LIMIT 26",
    "parts behind a key": "SELECT * FROM part WHERE (ts, id) > (12000, 1) ORDER BY ts, id LIMIT 26",
    "count of parts": "SELECT count(*) FROM part WHERE ts > 17000",
}


def capture(engine, name):
    """Return the entries of one engine, its tables made anew."""
    filled = {
        "odd": SERIES[name].format(last=ROWS - 1),
        "person": SERIES[name].format(last=PEOPLE - 1),
    }
    with engine.begin() as connection:
        for statement in (*MAKE, *PARTS[name]):
            connection.execute(text(statement.format(**filled)))
    with engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        for table in ("odd", "person", *(["part"] if PARTS[name] else [])):
            word = {"postgresql": "VACUUM ANALYZE", "mariadb": "ANALYZE TABLE"}.get(name, "ANALYZE")
            connection.execute(text(f"{word} {table}"))
    found = []
    with engine.connect() as connection:
        asked = {"sqlite": "EXPLAIN QUERY PLAN ", "postgresql": "EXPLAIN (FORMAT JSON) "}
        for title, sql in {**STATEMENTS, **(OF_PARTS if PARTS[name] else {})}.items():
            result = connection.exec_driver_sql(asked.get(name, "EXPLAIN ") + sql)
            said = (
                plan_in(result.scalar())
                if name == "postgresql"
                else [dict(row) for row in result.mappings()]
            )
            reads = count_reads(connection, lambda sql=sql: connection.exec_driver_sql(sql).all())
            found.append(
                {
                    "engine": name,
                    "title": title,
                    "sql": sql,
                    "said": said,
                    "rows": ROWS,
                    "entries": reads.entries,
                }
            )
    return found


def main():
    found = []
    for name in NAMES:
        with open_server(name) as engine:
            found += capture(engine, name)
    lines = ",\n".join(json.dumps(entry, default=str) for entry in found)
    PATH.write_text(f"[\n{lines}\n]\n")


if __name__ == "__main__":
    main()
