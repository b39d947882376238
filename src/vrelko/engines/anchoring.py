"""What counted anchors ask of an engine: tables and triggers, snapshots, a lock for the worker."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from sqlalchemy import Connection, Engine, Table
from sqlalchemy.engine.interfaces import Dialect

from vrelko.sql.anchor_tables import AnchorNames, AnchorTables


@dataclass(frozen=True, slots=True, kw_only=True)
class AnchorEngine:
    """The parts of one engine; none has a default.

    `create` and `drop` yield statements; `types` gives the declared type and collation of each
    column where CREATE TABLE AS copies neither. `begin_snapshot` opens a transaction that sees one
    state of the rows, and `sees_one` tells whether a connection is in such a one. `isolation` is
    that of the worker's transaction, `lock` what it asks before it begins (None: the transaction
    itself keeps others out) and `unlock` afterwards. `delete` is the head of a DELETE from a log.
    `unseen` tells what may change rows and fires no trigger.
    """

    create: Callable[[AnchorNames, dict[str, str]], Iterator[str]]
    drop: Callable[[AnchorNames], Iterator[str]]
    types: Callable[[Engine, AnchorTables], dict[str, str]]
    begin_snapshot: Callable[[Connection], Connection]
    sees_one: Callable[[Connection], bool]
    isolation: str
    lock: str | None
    unlock: str | None
    delete: str
    unseen: Callable[[Connection, Table], list[str]]

    def create_statements(
        self, tables: AnchorTables, dialect: Dialect, types: dict[str, str], *, static: bool = False
    ) -> list[str]:
        """Return the statements that make anchors, log and state; no triggers when `static`."""
        made = list(self.create(AnchorNames(tables, dialect), types))
        triggers = ("CREATE TRIGGER", "CREATE FUNCTION")
        return [one for one in made if not (static and one.startswith(triggers))]

    def drop_statements(self, tables: AnchorTables, dialect: Dialect) -> list[str]:
        """Return the statements that leave nothing of them."""
        return list(self.drop(AnchorNames(tables, dialect)))


def copied(engine: Engine, tables: AnchorTables) -> dict[str, str]:
    """Return nothing: the engine copies types and collations itself."""
    return {}


def begin_repeatable(connection: Connection) -> Connection:
    """Open a transaction whose first statement takes the snapshot."""
    return connection.execution_options(isolation_level="REPEATABLE READ")


def is_repeatable(connection: Connection) -> bool:
    """Tell whether all statements of the connection's transaction see one snapshot."""
    return connection.get_isolation_level() in ("REPEATABLE READ", "SERIALIZABLE")
