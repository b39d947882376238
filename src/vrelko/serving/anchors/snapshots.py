"""Snapshots: transactions whose statements all see the same rows."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Connection, Engine

from vrelko.engines.registry import record_of


@contextmanager
def snapshot(engine: Engine) -> Iterator[Connection]:
    """Lend a connection whose statements all see the rows as they are at the first of them."""
    with engine.connect() as connection:
        yield begin_snapshot(connection)
        connection.rollback()


def begin_snapshot(connection: Connection) -> Connection:
    """Return a fresh connection in a transaction that sees one snapshot."""
    begun = record_of(connection.dialect).anchors.begin_snapshot(connection)
    return begun.execution_options(vrelko_snapshot=True)


def begun_here(connection: Connection) -> bool:
    """Tell whether a connection was lent here for one request, so that nobody misses its end."""
    return bool(connection.get_execution_options().get("vrelko_snapshot"))


def in_snapshot(connection: Connection) -> bool:
    """Tell whether the statements of a connection's transaction all see the same rows."""
    return begun_here(connection) or record_of(connection.dialect).anchors.sees_one(connection)
