"""Frozen read views: one connection that sees the rows as they stand when it first reads."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Connection, Engine, text

from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import DatabaseError


def can_hold_view(engine: Engine) -> bool:
    """Tell whether readers of an engine can see rows as they were, while others write."""
    in_memory = engine.url.database in (None, "", ":memory:")
    return dialect_of(engine).name != "sqlite" or not in_memory


@contextmanager
def hold_view(engine: Engine) -> Iterator[Connection]:
    """Lend a connection in one transaction that sees what was committed when it began.

    PostgreSQL and MariaDB: REPEATABLE READ, on MariaDB WITH CONSISTENT SNAPSHOT. SQLite: a read
    transaction. While it is held the servers keep old versions of rows that change, and SQLite
    outside of WAL mode lets no one write. Raises DatabaseError.
    """
    name = dialect_of(engine).name
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
                connection.exec_driver_sql(begins)
        yield connection
