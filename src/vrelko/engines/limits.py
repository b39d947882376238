"""Time limits for statements, by each engine's own means."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from time import monotonic
from typing import Any

from sqlalchemy import text
from sqlalchemy.exc import DBAPIError, SQLAlchemyError
from sqlalchemy.util import await_only

from vrelko.engines.registry import database_errors, dialect_of
from vrelko.errors import DatabaseError, PageError

_HANDLER = "vrelko_limit"  # where a connection keeps the limit in force
_MOST_MS = 2**31 - 1
_CHECK_EVERY = 1_000  # VM steps of SQLite between looks at the clock


@contextmanager
def limit_time(lender: Any, ms: float, keep: bool = False) -> Iterator[None]:
    """Limit each statement that is run inside the block on a Connection or Session to `ms`.

    PostgreSQL: statement_timeout for the transaction; a statement that runs into it ends the
    transaction, unless `keep` sets a savepoint first. MariaDB: max_statement_time for the session,
    set back afterwards. SQLite: the statement is interrupted.
    Raises PageError for a limit that is none.
    """
    if type(ms) not in (int, float) or not 0 < ms <= _MOST_MS:
        raise PageError(
            "a time limit is a number of milliseconds above 0", "Give 500 or the like", "time-limit"
        )
    name = dialect_of(lender).name
    if name == "sqlite":
        limit = _limit_sqlite(lender, ms)
    elif name == "postgresql":
        limit = _limit_postgresql(lender, ms, keep)
    else:
        limit = _limit_mariadb(lender, ms)
    with database_errors("time limit"), limit:
        yield


def is_time_limit(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it ran into its time limit."""
    original = error.orig
    if getattr(original, "sqlstate", None) == "57014":  # PostgreSQL: query_canceled
        return True
    arguments = getattr(original, "args", ())
    return arguments[:1] in ((1969,), ("interrupted",))  # MariaDB: ER_STATEMENT_TIMEOUT; SQLite


@contextmanager
def _limit_sqlite(lender: Any, ms: float) -> Iterator[None]:
    connection = lender.connection() if hasattr(lender, "get_bind") else lender
    driver = connection.connection.dbapi_connection
    driver = getattr(driver, "driver_connection", driver)
    if not hasattr(driver, "set_progress_handler"):
        raise DatabaseError(
            "this SQLite driver cannot limit a statement's time",
            "Leave the limit out, or read through the sqlite3 driver",
            "time-limit-unavailable",
        )
    until = monotonic() + ms / 1000
    outer = connection.info.get(_HANDLER)

    def over() -> bool:
        return monotonic() > until or (outer is not None and outer())

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


@contextmanager
def _limit_postgresql(lender: Any, ms: float, keep: bool) -> Iterator[None]:
    alone = _commits_alone(lender)  # then a limit for the transaction would end with itself
    keep = keep and not alone
    change = text("SELECT set_config('statement_timeout', :ms, :local)")
    before = lender.execute(text("SHOW statement_timeout")).scalar()
    if keep:
        lender.execute(text("SAVEPOINT vrelko_limit"))
    lender.execute(change, {"ms": str(max(round(ms), 1)), "local": not alone})
    try:
        yield
    except BaseException:
        with suppress(SQLAlchemyError):  # a failed transaction takes its limit with it
            if keep:
                lender.execute(text("ROLLBACK TO SAVEPOINT vrelko_limit"))
            else:
                lender.execute(change, {"ms": str(before), "local": not alone})
        raise
    lender.execute(change, {"ms": str(before), "local": not alone})
    if keep:
        lender.execute(text("RELEASE SAVEPOINT vrelko_limit"))


def _commits_alone(lender: Any) -> bool:
    """Tell whether each statement is a transaction of its own (AUTOCOMMIT)."""
    connection = lender.connection() if hasattr(lender, "get_bind") else lender
    return bool(getattr(connection.connection.dbapi_connection, "autocommit", False))


@contextmanager
def _limit_mariadb(lender: Any, ms: float) -> Iterator[None]:
    before = lender.execute(text("SELECT @@max_statement_time")).scalar()
    lender.execute(text("SET SESSION max_statement_time = :s"), {"s": ms / 1000})
    back = text("SET SESSION max_statement_time = :s")
    try:
        yield
    except BaseException:
        with suppress(SQLAlchemyError):  # a lost connection takes its limit with it
            lender.execute(back, {"s": before})
        raise
    lender.execute(back, {"s": before})
