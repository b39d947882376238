"""What counted anchors ask of an engine: tables and triggers, snapshots, a lock for the worker."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from sqlalchemy import Connection, Engine, Table

from vrelko.sql.anchor_tables import AnchorNames, AnchorTables


@dataclass(frozen=True, slots=True, kw_only=True)
class AnchorEngine:
    """The parts of one engine; none has a default.

    What yields statements: `create_log` makes log and state, `create_triggers` what appends to the
    log, `create_anchors` an order's own; `drop_anchors` and `drop_log` leave nothing of them. Those
    that make the triggers may be run where `has_triggers` tells that the table has not all of them:
    a build that was broken off may have made some, and a table that was renamed takes its triggers
    along (`drop_triggers` takes them from it). `identity` is SQL for a text that differs where
    another table was put in the place of this one. `read_facts` reads what the statements need to
    know: the declared type and collation of each column where CREATE TABLE AS copies neither, the
    schemas that a trigger's names are looked for in. `may_read` tells whether the database user may
    read the anchors (None: there are none), `may_write` raises DBAPIError where the builder may not
    write the log, whose rights the triggers go by. `grants` are the statements that let a role read
    the anchors, or fold them too. `short_waits` keep a statement from waiting long for a lock,
    which others would queue behind, and let it wait again; None where changes keep to one
    transaction. `aborts`: an error ends the transaction. `begin_snapshot` opens a transaction that
    sees one state of the rows, and `sees_one` tells whether a connection is in such a one.
    `isolation` is that of the worker's transaction, `lock` what it asks before it begins (None:
    `begin_alone` begins one that keeps others out) and `unlock` afterwards. `delete` is the head of
    a DELETE from a log. `add` adds to the rows of a table's anchors, given by their ids. `unseen`
    tells what may change rows and fires no trigger.
    """

    create_log: Callable[[AnchorNames, dict[str, str]], Iterator[str]]
    create_triggers: Callable[[AnchorNames, dict[str, str]], Iterator[str]]
    create_anchors: Callable[[AnchorNames, dict[str, str]], Iterator[str]]
    drop_anchors: Callable[[AnchorNames], Iterator[str]]
    drop_log: Callable[[AnchorNames], Iterator[str]]
    drop_triggers: Callable[[AnchorNames], Iterator[str]]
    has_triggers: Callable[[Connection, AnchorNames], bool]
    identity: Callable[[AnchorNames], str]
    read_facts: Callable[[Engine, AnchorTables], dict[str, str]]
    may_read: Callable[[Connection, AnchorNames], bool | None]
    may_write: Callable[[Connection, AnchorNames], None]
    grants: Callable[[AnchorNames, str, bool], Iterator[str]]
    short_waits: tuple[str, str] | None
    aborts: bool
    begin_snapshot: Callable[[Connection], Connection]
    sees_one: Callable[[Connection], bool]
    isolation: str
    lock: str | None
    unlock: str | None
    begin_alone: Callable[[Connection], None] | None
    delete: str
    add: Callable[[Connection, str, Sequence[tuple[int, int]]], None]
    unseen: Callable[[Connection, Table], list[str]]


def no_facts(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return nothing: the statements need to know nothing of the database."""
    return {}


def can_write(connection: Connection, names: AnchorNames) -> None:
    """Insert a row into the log and take it back, as triggers will. Raises DBAPIError."""
    with connection.begin_nested() as point:
        columns = ", ".join(name for name, _ in names.tables.log_columns)
        some = names.copied(names.tables.log_columns)
        connection.exec_driver_sql(
            f"INSERT INTO {names.log} ({columns}, d) SELECT {some}, 0 FROM {names.source} LIMIT 1"
        )
        point.rollback()


def begin_repeatable(connection: Connection) -> Connection:
    """Open a transaction whose first statement takes the snapshot."""
    return connection.execution_options(isolation_level="REPEATABLE READ")


def is_repeatable(connection: Connection) -> bool:
    """Tell whether all statements of the connection's transaction see one snapshot."""
    return connection.get_isolation_level() in ("REPEATABLE READ", "SERIALIZABLE")
