"""Counted anchors on MariaDB: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from sqlalchemy import Column, Connection, Table, text
from sqlalchemy.exc import DBAPIError

from vrelko.engines.anchoring import (
    AnchorEngine,
    begin_repeatable,
    can_write,
    is_repeatable,
    no_facts,
)
from vrelko.sql.anchor_tables import AnchorNames


def _create_log(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    # AUTO_INCREMENT would take a lock of its own, and fail with 1467 under many writers.
    yield from _copy(n, n.log, "0 AS d", "seq", "DEFAULT uuid_short()", n.tables.log_columns)
    yield n.state_table()


def _create_triggers(n: AnchorNames, facts: dict[str, str]) -> Iterator[str]:
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
            f"CREATE TRIGGER IF NOT EXISTS {n.trigger(ending)} AFTER {event} ON {n.source} "
            f"FOR EACH ROW {body}"
        )


def _create_anchors(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    yield f"ALTER TABLE {n.log} ADD INDEX {n.quote(n.log_index)} ({n.log_keys('d')})"
    own, numbered = "0 AS lvl, 0 AS n", "AUTO_INCREMENT"
    # The index comes with the table: readers know by the table that there are anchors.
    yield from _copy(n, n.anchors, own, "id", numbered, n.tables.columns, n.anchor_index())


def _copy(
    n: AnchorNames,
    table: str,
    own: str,
    key: str,
    numbered: str,
    columns: list[tuple[str, Column[Any]]],
    index: str = "",
) -> Iterator[str]:
    """Make a table with the source's columns, types and collations."""
    yield f"CREATE TABLE {table} AS SELECT {own}, {n.copied(columns)} FROM {n.source} WHERE false"
    # Added afterwards: CREATE TABLE … SELECT copies columns, and makes no key of them.
    yield f"ALTER TABLE {table} ADD {key} bigint unsigned {numbered} PRIMARY KEY FIRST"
    for name, column in columns:
        if not column.nullable:  # a default of the source would stand for what is left out
            yield f"ALTER TABLE {table} ALTER {name} DROP DEFAULT"
    if index:
        yield f"ALTER TABLE {table} ADD INDEX vrelko_key ({index})"


def _drop_anchors(n: AnchorNames) -> Iterator[str]:
    yield f"DROP TABLE IF EXISTS {n.anchors}"
    yield f"ALTER TABLE IF EXISTS {n.log} DROP INDEX IF EXISTS {n.quote(n.log_index)}"


def _drop_triggers(n: AnchorNames) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"


def _identity(n: AnchorNames) -> str:
    # To the second: there is no number of a table that every reader may see.
    schema, name = n.tables.table.schema, n.tables.table.name.replace("'", "''")
    space = "database()" if schema is None else "'{}'".format(schema.replace("'", "''"))
    return (
        "(SELECT CAST(create_time AS char) FROM information_schema.tables "
        f"WHERE table_schema = {space} AND table_name = '{name}')"
    )


def _drop_log(n: AnchorNames) -> Iterator[str]:
    # The state goes first: what is left behind without it is swept before a log is made anew.
    yield f"DROP TABLE IF EXISTS {n.state}"
    yield from _drop_triggers(n)
    yield f"DROP TABLE IF EXISTS {n.log}"


def _has_triggers(connection: Connection, n: AnchorNames) -> bool:
    asked = text(
        "SELECT count(*), count(CASE WHEN event_object_table = :table THEN 1 END) "
        "FROM information_schema.triggers "
        "WHERE trigger_schema = coalesce(:space, database()) AND trigger_name IN (:a, :b, :c)"
    )
    names = [f"vrelko_{n.tables.group}_{ending}" for ending in ("rows", "gone", "moves")]
    values = {"space": n.tables.table.schema, "table": n.tables.table.name}
    found = connection.execute(asked, {**values, **dict(zip("abc", names, strict=True))}).one()
    # A table that was renamed took them along.
    if found[0]:
        return bool(found[1] == len(names))
    # The catalog hides triggers from who may not make any; asked by name the server still tells
    # those that it hides from those that are not there.
    for ending in ("rows", "gone", "moves"):
        try:
            connection.exec_driver_sql(f"SHOW CREATE TRIGGER {n.trigger(ending)}")
        except DBAPIError as error:
            code = getattr(error.orig, "args", ())[:1]
            if code == (_NO_SUCH_TRIGGER,):
                return False
            if code != (_HIDDEN,):
                raise
    return True


_NO_SUCH_TRIGGER, _HIDDEN = 1360, 1227  # numbers of the server's errors


def _add(connection: Connection, name: str, changes: Sequence[tuple[int, int]]) -> None:
    values = " UNION ALL SELECT ".join(f"{number:d}, {d:d}" for number, d in changes)
    number, d = changes[0]
    head = f"SELECT {number:d} AS id, {d:d} AS d"
    rest = values.partition(" UNION ALL ")[2]
    changed = f"{head} UNION ALL {rest}" if rest else head
    connection.exec_driver_sql(
        f"UPDATE {name} AS anchor JOIN ({changed}) AS changed ON anchor.id = changed.id "
        "SET anchor.n = anchor.n + changed.d"
    )


def _unseen(connection: Connection, table: Table) -> list[str]:
    asked = text(
        "SELECT referenced_table_name, delete_rule, update_rule "
        "FROM information_schema.referential_constraints "
        "WHERE constraint_schema = COALESCE(:schema, DATABASE()) AND table_name = :name"
    )
    given = {"schema": table.schema, "name": table.name}
    found = ["TRUNCATE TABLE"]
    # InnoDB carries out foreign keys by itself, below the triggers.
    for parent, *rules in connection.execute(asked, given):
        if set(rules) & {"CASCADE", "SET NULL", "SET DEFAULT"}:
            found.append(f"rows that go or change with those of {parent!r}, by its foreign key")
    return found


def _may_read(connection: Connection, n: AnchorNames) -> bool | None:
    # Who may not read a table is not told either whether it is there.
    for name in (n.state, n.log, n.anchors):
        try:
            connection.exec_driver_sql(f"SELECT 1 FROM {name} LIMIT 0".replace("%", "%%"))
        except DBAPIError as error:
            code = getattr(error.orig, "args", ())[:1]
            if code in _DENIED:
                return False
            if code == (_NO_SUCH_TABLE,):
                return None
            raise
    return True


_NO_SUCH_TABLE = 1146
_DENIED = ((1142,), (1143,), (1044,))  # on the table, on a column, on the database


def _grants(n: AnchorNames, role: str, folds: bool) -> Iterator[str]:
    # Quoted by hand: the driver's way would double the % of a host.
    account = "@".join("`{}`".format(part.replace("`", "``")) for part in role.split("@", 1))
    rights = "SELECT, INSERT, UPDATE, DELETE" if folds else "SELECT"
    for table in (n.log, n.state, n.anchors):
        yield f"GRANT {rights} ON {table} TO {account}"


ANCHORS = AnchorEngine(
    create_log=_create_log,
    create_triggers=_create_triggers,
    create_anchors=_create_anchors,
    drop_anchors=_drop_anchors,
    drop_log=_drop_log,
    drop_triggers=_drop_triggers,
    has_triggers=_has_triggers,
    identity=_identity,
    read_facts=no_facts,
    may_read=_may_read,
    may_write=can_write,
    grants=_grants,
    short_waits=("SET SESSION lock_wait_timeout = 1", "SET SESSION lock_wait_timeout = DEFAULT"),
    aborts=False,
    begin_snapshot=begin_repeatable,
    sees_one=is_repeatable,
    isolation="REPEATABLE READ",
    # Its locks are the whole server's, so the database is part of their name.
    lock="SELECT GET_LOCK(SHA1(CONCAT(DATABASE(), :name)), 0)",
    unlock="SELECT RELEASE_LOCK(SHA1(CONCAT(DATABASE(), :name)))",
    begin_alone=None,
    # Else it reads a small log whole, and locks the gap that writers append to.
    delete="DELETE {0} FROM {0} FORCE INDEX (PRIMARY)",
    add=_add,
    unseen=_unseen,
)
