"""SQLite: time limits, counts, read views and estimates of statements."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Connection, Engine, Select, Table, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.util import await_only

from vrelko.engines import clock
from vrelko.engines.reads import Reads, sent_on
from vrelko.engines.sqlite.capabilities import count_steps
from vrelko.engines.sqlite.catalog import MAIN, read_statistics
from vrelko.errors import DatabaseError

_HANDLER = "vrelko_limit"  # where a connection keeps the limit in force
_CHECK_EVERY = 1_000  # VM steps between looks at the clock


def count_reads(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Run a function that sends statements on a connection, and count their VM steps."""
    with sent_on(connection) as sent, count_steps(connection) as steps:
        run()
    return Reads(steps.count, None, len(sent))


@contextmanager
def limit_time(lender: Any, ms: float) -> Iterator[None]:
    """Interrupt statements that are run inside the block after `ms` milliseconds."""
    connection = lender.connection() if hasattr(lender, "get_bind") else lender
    driver = connection.connection.dbapi_connection
    # An asynchronous driver wraps the connection that has the handler.
    driver = getattr(driver, "driver_connection", driver)
    if not hasattr(driver, "set_progress_handler"):
        raise DatabaseError(
            "this SQLite driver cannot limit a statement's time",
            "Leave the limit out, or read through the sqlite3 driver",
            "time-limit-unavailable",
        )
    until = clock.now_s() + ms / 1000
    # SQLite has one handler a connection: an inner limit must not end an outer one.
    outer = connection.info.get(_HANDLER)

    def over() -> bool:
        return clock.now_s() > until or (outer is not None and outer())

    connection.info[_HANDLER] = over
    _wait(driver.set_progress_handler(over, _CHECK_EVERY))
    try:
        yield
    finally:
        connection.info[_HANDLER] = outer
        _wait(driver.set_progress_handler(outer, _CHECK_EVERY))


def _wait(done: Any) -> None:
    """Wait for what an asynchronous driver does."""
    if hasattr(done, "__await__"):
        await_only(done)


def is_time_limit(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it was interrupted."""
    return getattr(error.orig, "args", ())[:1] == ("interrupted",)


def holds_views(engine: Engine) -> bool:
    """Tell whether one connection can see rows as they were: not in memory."""
    return engine.url.database not in (None, "", ":memory:")


def writes_beside_views(engine: Engine) -> bool:
    """Tell whether others can write while a view is held: in WAL mode alone."""
    if not holds_views(engine):
        return False
    with engine.connect() as connection:
        return str(connection.exec_driver_sql("PRAGMA journal_mode").scalar()).lower() == "wal"


def begin(connection: Connection, immediate: bool = False) -> None:
    """Begin a transaction in the file; `immediate`: that keeps other writers out from its start.

    Also where the Engine's own events begin transactions, as SQLAlchemy's page on SQLite has it.
    """
    if not connection.in_transaction():
        connection.begin()
    begun = bool(getattr(connection.connection, "in_transaction", False))
    if begun and immediate:
        connection.exec_driver_sql("ROLLBACK")  # nothing was read in it yet
    if immediate or not begun:
        connection.exec_driver_sql("BEGIN IMMEDIATE" if immediate else "BEGIN")


def begin_view(connection: Connection, snapshot: str | None) -> Connection:
    """Begin a read transaction, which sees the file as it is now."""
    # BEGIN alone takes no snapshot; the first read does.
    begin(connection)
    connection.execute(text("SELECT 1 FROM sqlite_master LIMIT 1")).all()
    return connection


def estimate_rows(
    lender: Any, rows: Select[Any], params: Mapping[str, Any], table: Table | None
) -> int | None:
    """Return the rows of a whole table as ANALYZE had them, None for anything else."""
    # Statistics are of whole tables; of a filter SQLite tells nothing.
    if rows.whereclause is not None or table is None or len(rows.get_final_froms()) != 1:
        return None
    stored = read_statistics(lender, table.name, table.schema or MAIN)
    # Each index tells its entries first, and a partial one has fewer than the table has rows.
    return max((numbers[0] for numbers in stored.values()), default=None)
