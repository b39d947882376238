"""Counted anchors on SQLite: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import Connection, Engine, Table, inspect, text

from vrelko.engines.anchoring import AnchorEngine
from vrelko.sql.anchor_tables import AnchorNames, AnchorTables


def _create(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    copied = ", ".join(f"{name} {types[column.name]}" for name, column in n.tables.columns)
    yield n.state_table()
    key = "seq INTEGER PRIMARY KEY AUTOINCREMENT"  # a number used again would name another change
    yield f"CREATE TABLE {n.log} ({key}, d INTEGER, {copied})"
    yield f"CREATE INDEX {n.quote(n.tables.log.name + '_key')} ON {n.log} ({n.index('', 'd')})"
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    for ending, event, body in (
        ("rows", f"INSERT ON {n.source}", n.insert("new", 1)),
        ("gone", f"DELETE ON {n.source}", n.insert("old", -1)),
        (
            "moves",
            f"UPDATE ON {n.source} WHEN ({old}) IS NOT ({new})",
            f"{n.insert('old', -1)}; {n.insert('new', 1)}",
        ),
    ):
        yield f"CREATE TRIGGER {n.trigger(ending)} AFTER {event} BEGIN {body}; END"
    yield f"CREATE TABLE {n.anchors} (id INTEGER PRIMARY KEY, lvl INTEGER, n INTEGER, {copied})"
    name = n.quote(n.tables.anchors.name + "_key")
    yield f"CREATE INDEX {name} ON {n.anchors} ({n.index('lvl')})"


def _drop(n: AnchorNames) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"
    for table in (n.log, n.anchors, n.state):
        yield f"DROP TABLE IF EXISTS {table}"


def _types(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return the declared type and collation of each column of an SQLite table."""
    name = tables.table.name
    with engine.connect() as connection:
        declared = {
            row.name: row.type
            for row in connection.execute(
                text("SELECT name, type FROM pragma_table_info(:name)"), {"name": name}
            )
        }
        collated = {
            row.name: row.coll
            for index in inspect(connection).get_indexes(name)
            for row in connection.execute(
                text("SELECT name, coll FROM pragma_index_xinfo(:name) WHERE name IS NOT NULL"),
                {"name": index["name"]},
            )
        }
    return {
        column.name: f"{declared[column.name]} COLLATE {collated.get(column.name, 'BINARY')}"
        for _, column in tables.columns
    }


def _unseen(connection: Connection, table: Table) -> list[str]:
    return [
        "REPLACE and INSERT OR REPLACE delete rows unseen, unless each connection that writes says "
        "PRAGMA recursive_triggers = 1"
    ]


def _begin(connection: Connection) -> Connection:
    connection.exec_driver_sql("BEGIN")
    return connection


def _sees_one(connection: Connection) -> bool:
    return bool(getattr(connection.connection, "in_transaction", False))


ANCHORS = AnchorEngine(
    create=_create,
    drop=_drop,
    types=_types,
    begin_snapshot=_begin,
    sees_one=_sees_one,
    isolation="",
    lock=None,  # BEGIN IMMEDIATE keeps other writers out
    unlock=None,
    delete="DELETE FROM {0}",
    unseen=_unseen,
)
