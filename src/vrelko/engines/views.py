"""Frozen read views: one connection that sees the rows as they stand when it first reads."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime

from sqlalchemy import Connection, Engine, text

from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import DatabaseError


def can_hold_view(engine: Engine) -> bool:
    """Tell whether readers of an engine can see rows as they were, while others write."""
    in_memory = engine.url.database in (None, "", ":memory:")
    return dialect_of(engine).name != "sqlite" or not in_memory


@contextmanager
def hold_history(engine: Engine, moment: datetime) -> Iterator[Connection]:
    """Lend a connection that sees system-versioned tables as they were at a moment: MariaDB alone.

    Nothing is held open; a naive moment is in the session's time zone. Raises DatabaseError.
    """
    if dialect_of(engine).name != "mariadb":
        raise DatabaseError(
            f"{dialect_of(engine).name} keeps no history of its tables",
            "Use frozen=True there; MariaDB's system-versioned tables keep one",
            "view-history",
        )
    with database_errors("read view"), engine.connect() as connection:
        text_of = moment.isoformat(sep=" ", timespec="microseconds")
        connection.exec_driver_sql("SET SESSION system_versioning_asof = %s", (text_of,))
        try:
            yield connection
        finally:
            connection.exec_driver_sql("SET SESSION system_versioning_asof = DEFAULT")


@contextmanager
def hold_view(engine: Engine, snapshot: str | None = None) -> Iterator[Connection]:
    """Lend a connection in one transaction that sees what was committed when it began.

    `snapshot`: what pg_export_snapshot() returned in a transaction that is still open, to see what
    that one sees: PostgreSQL alone.

    PostgreSQL and MariaDB: REPEATABLE READ, on MariaDB WITH CONSISTENT SNAPSHOT. SQLite: a read
    transaction. While it is held the servers keep old versions of rows that change, and SQLite
    outside of WAL mode lets no one write. Raises DatabaseError.
    """
    name = dialect_of(engine).name
    if snapshot is not None and name != "postgresql":
        raise DatabaseError(f"{name} exports no snapshots", "Use frozen=True there", "view-history")
    if name == "sqlite" and not can_hold_view(engine):
        raise DatabaseError(
            "a database in memory has one connection, so no view of it can be held",
            "Use a database file",
            "view-memory",
        )
    with database_errors("read view"):
        connection = engine.connect()
    with connection:
        with database_errors("read view"):
            if name == "sqlite":
                connection.exec_driver_sql("BEGIN")
                connection.execute(text("SELECT 1 FROM sqlite_master LIMIT 1")).all()
            else:
                connection = connection.execution_options(isolation_level="REPEATABLE READ")
                begins = "SELECT 1"
                if name != "postgresql":
                    begins = "START TRANSACTION WITH CONSISTENT SNAPSHOT"
                elif snapshot is not None:
                    quoted = snapshot.replace("'", "''").replace("%", "%%")
                    begins = f"SET TRANSACTION SNAPSHOT '{quoted}'"
                connection.exec_driver_sql(begins)
        yield connection
