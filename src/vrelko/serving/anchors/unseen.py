"""Writes that fire no trigger, which counted anchors do not see: what a catalog tells of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from sqlalchemy import Connection, Table, text

from vrelko.engines.registry import engine_name


def find_unseen(connection: Connection, table: Table) -> list[str]:
    """Return sentences on what may change a table's rows unseen by its triggers."""
    return _UNSEEN[engine_name(connection.dialect)](connection, table)


def _sqlite(connection: Connection, table: Table) -> list[str]:
    return [
        "REPLACE and INSERT OR REPLACE delete rows unseen, unless each connection that writes says "
        "PRAGMA recursive_triggers = 1"
    ]


def _postgresql(connection: Connection, table: Table) -> list[str]:
    name = connection.dialect.identifier_preparer.format_table(table)
    asked = text(
        "SELECT c.relkind, (SELECT count(*) FROM pg_inherits WHERE inhparent = c.oid) "
        "FROM pg_class c WHERE c.oid = CAST(:name AS regclass)"
    )
    kind, children = connection.execute(asked, {"name": name}).one()
    found = ["sessions with session_replication_role = replica, or triggers disabled"]
    if kind == "p":
        found.append("partitions that are attached or detached with rows in them")
    elif children:
        found.append(f"rows of {children} child tables, which fire triggers of their own alone")
    return found


def _mariadb(connection: Connection, table: Table) -> list[str]:
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


_UNSEEN: dict[str, Callable[[Any, Table], list[str]]] = {
    "sqlite": _sqlite,
    "postgresql": _postgresql,
    "mariadb": _mariadb,
}
