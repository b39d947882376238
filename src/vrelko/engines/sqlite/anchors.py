"""Counted anchors on SQLite: tables, triggers, snapshots and locks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

from sqlalchemy import Connection, Engine, Table, inspect, text

from vrelko.engines.anchoring import AnchorEngine
from vrelko.engines.sqlite.session import begin
from vrelko.sql.anchor_tables import AnchorNames, AnchorTables


def _create_log(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    # Types and collations are written out: CREATE TABLE AS would lose them, and keys would sort
    # otherwise.
    copied = ", ".join(f"{name} {types[column.name]}" for name, column in n.tables.log_columns)
    key = "seq INTEGER PRIMARY KEY AUTOINCREMENT"  # a number used again would name another change
    yield f"CREATE TABLE {n.log} ({key}, d INTEGER, {copied})"
    yield n.state_table()


def _create_triggers(n: AnchorNames, facts: dict[str, str]) -> Iterator[str]:
    old, new = (", ".join(f"{row}.{name}" for name in n.watched()) for row in ("old", "new"))
    # A trigger knows the tables of its own file alone, and refuses names with a schema.
    source, log = (n.quote(one.name) for one in (n.tables.table, n.tables.log))
    came, went = n.insert("new", 1, log), n.insert("old", -1, log)
    for ending, event, body in (
        ("rows", f"INSERT ON {source}", came),
        ("gone", f"DELETE ON {source}", went),
        (
            "moves",
            # IS NOT compares NULLs too; a change of other columns logs nothing.
            f"UPDATE ON {source} WHEN ({old}) IS NOT ({new})",
            f"{went}; {came}",
        ),
    ):
        yield f"CREATE TRIGGER IF NOT EXISTS {n.trigger(ending)} AFTER {event} BEGIN {body}; END"


def _create_anchors(n: AnchorNames, types: dict[str, str]) -> Iterator[str]:
    copied = ", ".join(f"{name} {types[column.name]}" for name, column in n.tables.columns)
    log, anchors = n.quote(n.tables.log.name), n.quote(n.tables.anchors.name)
    yield f"CREATE INDEX {n.in_schema(n.log_index)} ON {log} ({n.log_keys('d')})"
    yield f"CREATE TABLE {n.anchors} (id INTEGER PRIMARY KEY, lvl INTEGER, n INTEGER, {copied})"
    name = n.in_schema(n.tables.anchors.name + "_key")
    yield f"CREATE INDEX {name} ON {anchors} ({n.anchor_index()})"


def _drop_anchors(n: AnchorNames) -> Iterator[str]:
    yield f"DROP TABLE IF EXISTS {n.anchors}"
    yield f"DROP INDEX IF EXISTS {n.in_schema(n.log_index)}"


def _drop_triggers(n: AnchorNames) -> Iterator[str]:
    for ending in ("rows", "gone", "moves"):
        yield f"DROP TRIGGER IF EXISTS {n.trigger(ending)}"


def _identity(n: AnchorNames) -> str:
    # Where the table and its triggers begin in the file: VACUUM moves them as well.
    name = n.tables.table.name.replace("'", "''")
    return (
        "(SELECT group_concat(name || rootpage) FROM (SELECT name, rootpage FROM "
        f"{n.in_schema('sqlite_master')} WHERE tbl_name = '{name}' COLLATE NOCASE "
        "AND type IN ('table', 'trigger') ORDER BY name))"
    )


def _drop_log(n: AnchorNames) -> Iterator[str]:
    yield from _drop_triggers(n)
    for table in (n.log, n.state):
        yield f"DROP TABLE IF EXISTS {table}"


def _has_triggers(connection: Connection, n: AnchorNames) -> bool:
    catalog = n.in_schema("sqlite_master")
    asked = text(
        f"SELECT count(*) FROM {catalog} WHERE type = 'trigger' AND name IN (:a, :b, :c) "
        "AND tbl_name = :table COLLATE NOCASE"
    )
    names = [f"vrelko_{n.tables.group}_{ending}" for ending in ("rows", "gone", "moves")]
    # All three or none: with one of them missing the log is short without a word.
    values = {"table": n.tables.table.name, **dict(zip("abc", names, strict=True))}
    found = connection.execute(asked, values).scalar()
    return found == len(names)


def _types(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return the declared type and collation of each column of an SQLite table."""
    name, schema = tables.table.name, tables.table.schema
    # Without its schema a table of that name in another attached file would answer.
    space = schema or "main"
    with engine.connect() as connection:
        declared = {
            row.name: row.type
            for row in connection.execute(
                text("SELECT name, type FROM pragma_table_info(:name, :space)"),
                {"name": name, "space": space},
            )
        }
        collated = {
            row.name: row.coll
            for index in inspect(connection).get_indexes(name, schema)
            for row in connection.execute(
                text(
                    "SELECT name, coll FROM pragma_index_xinfo(:name, :space) "
                    "WHERE name IS NOT NULL"
                ),
                {"name": index["name"], "space": space},
            )
        }
    return {
        column.name: f"{declared[column.name]} COLLATE {collated.get(column.name, 'BINARY')}"
        for _, column in tables.log_columns
    }


def _add(connection: Connection, name: str, changes: Sequence[tuple[int, int]]) -> None:
    connection.exec_driver_sql(
        f"UPDATE {name} SET n = n + ? WHERE id = ?", [(d, number) for number, d in changes]
    )


def _unseen(connection: Connection, table: Table) -> list[str]:
    return [
        "REPLACE and INSERT OR REPLACE delete rows unseen, unless each connection that writes says "
        "PRAGMA recursive_triggers = 1"
    ]


def _begin(connection: Connection) -> Connection:
    begin(connection)
    return connection


def _sees_one(connection: Connection) -> bool:
    # sqlite3 begins a transaction with the first write, not with the first read.
    return bool(getattr(connection.connection, "in_transaction", False))


def _may_read(connection: Connection, n: AnchorNames) -> bool | None:
    state = n.tables.state
    return inspect(connection).has_table(state.name, schema=state.schema) or None


ANCHORS = AnchorEngine(
    create_log=_create_log,
    create_triggers=_create_triggers,
    create_anchors=_create_anchors,
    drop_anchors=_drop_anchors,
    drop_log=_drop_log,
    drop_triggers=_drop_triggers,
    has_triggers=_has_triggers,
    identity=_identity,
    read_facts=_types,
    may_read=_may_read,
    may_write=lambda connection, names: None,
    grants=lambda names, role, folds: iter(()),
    short_waits=None,
    aborts=False,
    begin_snapshot=_begin,
    sees_one=_sees_one,
    isolation="",
    lock=None,
    unlock=None,
    begin_alone=partial(begin, immediate=True),
    delete="DELETE FROM {0}",
    add=_add,
    unseen=_unseen,
)
