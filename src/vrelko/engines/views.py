"""Frozen read views: one connection that sees the rows as they stand when it first reads."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime

from sqlalchemy import Connection, Engine

from vrelko.engines.registry import database_errors, engine_of
from vrelko.errors import DatabaseError


def can_hold_view(engine: Engine) -> bool:
    """Tell whether readers of an engine can see rows as they were, while others write."""
    record = engine_of(engine)
    return record.holds_views(engine) and record.writes_beside_views(engine)


@contextmanager
def hold_history(engine: Engine, moment: datetime) -> Iterator[Connection]:
    """Lend a connection that sees system-versioned tables as they were at a moment: MariaDB alone.

    Nothing is held open; a naive moment is in the session's time zone. Raises DatabaseError.
    """
    if not engine_of(engine).keeps_history:
        raise DatabaseError(
            f"{engine_of(engine).name} keeps no history of its tables",
            "Use frozen=True there; MariaDB's system-versioned tables keep one",
            "view-history",
        )
    with database_errors("read view"), engine.connect() as connection:
        # To the microsecond: a moment cut short would lie ahead of changes it should see.
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
    record = engine_of(engine)
    if snapshot is not None and not record.exports_snapshots:
        raise DatabaseError(
            f"{record.name} cannot share a snapshot between connections",
            "Use frozen=True there",
            "view-history",
        )
    if not record.holds_views(engine):
        raise DatabaseError(
            "a database in memory has one connection, so a snapshot of it cannot be held",
            "Use a database file",
            "view-memory",
        )
    with database_errors("read view"):
        # Outside of the block below: what the caller's own code raises must not be taken for the
        # database's.
        connection = engine.connect()
    with connection:
        with database_errors("read view"):
            connection = record.begin_view(connection, snapshot)
        yield connection
