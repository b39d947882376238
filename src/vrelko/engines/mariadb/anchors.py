"""Counted anchors on MariaDB: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator

from sqlalchemy import Connection, Table, text

from vrelko.engines.anchoring import AnchorEngine, begin_repeatable, copied, is_repeatable
from vrelko.sql.anchor_tables import AnchorNames


def _create(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    yield n.state_table()
    # AUTO_INCREMENT would take a lock of its own, and fail with 1467 under many writers.
    yield from _copy(n, n.log, "0 AS d", "seq", "DEFAULT uuid_short()", n.index("", "d"))
    same = " AND ".join(f"old.{name} <=> new.{name}" for name in n.watched())
    for ending, event, body in (
        ("rows", "INSERT", n.insert("new", 1)),
        ("gone", "DELETE", n.insert("old", -1)),
        (
            "moves",
            "UPDATE",
            f"IF NOT ({same}) THEN {n.insert('old', -1)}; {n.insert('new', 1)}; END IF",
        ),
    ):
        yield (
            f"CREATE TRIGGER {n.trigger(ending)} AFTER {event} ON {n.source} FOR EACH ROW {body}"
        )
    own = "0 AS lvl, 0 AS n"
    yield from _copy(n, n.anchors, own, "id", "AUTO_INCREMENT", n.index("lvl"))


def _copy(
    n: AnchorNames, table: str, own: str, key: str, numbered: str, index: str
) -> Iterator[str]:
    """Make a table with the source's columns, types and collations."""
    yield f"CREATE TABLE {table} AS SELECT {own}, {n.copied()} FROM {n.source} WHERE false"
    yield f"ALTER TABLE {table} ADD {key} bigint unsigned {numbered} PRIMARY KEY FIRST"
    for i, (_, term) in enumerate(n.tables.keys):
        if not term.nullable:  # a default of the source would stand for what is left out
            yield f"ALTER TABLE {table} ALTER k{i} DROP DEFAULT"
    yield f"ALTER TABLE {table} ADD INDEX vrelko_key ({index})"


def _drop(n: AnchorNames) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"
    yield f"DROP TABLE IF EXISTS {n.log}, {n.anchors}, {n.state}"


def _unseen(connection: Connection, table: Table) -> list[str]:
    asked = text(
        "SELECT referenced_table_name, delete_rule, update_rule "
        "FROM information_schema.referential_constraints "
        "WHERE constraint_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
    )
    given = {"schema": table.schema, "name": table.name}
    found = ["TRUNCATE TABLE"]
    for parent, *rules in connection.execute(asked, given):
        if set(rules) & {"CASCADE", "SET NULL", "SET DEFAULT"}:
            found.append(f"rows that go or change with those of {parent!r}, by its foreign key")
    return found


ANCHORS = AnchorEngine(
    create=_create,
    drop=_drop,
    types=copied,
    begin_snapshot=begin_repeatable,
    sees_one=is_repeatable,
    isolation="REPEATABLE READ",
    # Its locks are the whole server's, so the database is part of their name.
    lock="SELECT GET_LOCK(SHA1(CONCAT(DATABASE(), :name)), 0)",
    unlock="SELECT RELEASE_LOCK(SHA1(CONCAT(DATABASE(), :name)))",
    # Else it reads a small log whole, and locks the gap that writers append to.
    delete="DELETE {0} FROM {0} FORCE INDEX (PRIMARY)",
    unseen=_unseen,
)
