"""MariaDB: time limits, counts, read views and estimates of statements."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from typing import Any

from sqlalchemy import Connection, Engine, Select, Table, text
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from vrelko.engines.explain import explain
from vrelko.engines.reads import Reads, sent_on

_STATEMENT_TIMEOUT = 1969


def count_reads(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Count by differences, which needs no right; looking itself reads rows, always as many."""
    # Asked twice in a row: the difference is what asking itself reads.
    at_first, before = read_handlers(connection), read_handlers(connection)
    with sent_on(connection) as sent:
        run()
    after = read_handlers(connection)
    handlers, inside = (after[i] - before[i] - (before[i] - at_first[i]) for i in range(len(after)))
    return Reads(handlers + inside, None, len(sent), handlers)


def read_handlers(connection: Connection) -> tuple[int, int]:
    """Return the rows MariaDB's handlers have read in this session, and entries tested inside."""
    rows = connection.exec_driver_sql(
        "SHOW SESSION STATUS WHERE Variable_name LIKE 'Handler_read%%' "
        "OR Variable_name = 'Handler_icp_attempts'"
    )
    counts = {str(name): int(value) for name, value in rows}
    inside = counts.pop("Handler_icp_attempts", 0)
    return sum(counts.values()), inside


@contextmanager
def limit_time(lender: Any, ms: float) -> Iterator[None]:
    """Limit the session's statements, and set the limit back afterwards."""
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


def is_time_limit(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it ran into its time limit."""
    return getattr(error.orig, "args", ())[:1] == (_STATEMENT_TIMEOUT,)


def holds_views(engine: Engine) -> bool:
    """Tell whether one connection can see rows as they were: always."""
    return True


def writes_beside_views(engine: Engine) -> bool:
    """Tell whether others can write while a view is held: always."""
    return True


def begin_view(connection: Connection, snapshot: str | None) -> Connection:
    """Begin a repeatable read with a snapshot taken now."""
    connection = connection.execution_options(isolation_level="REPEATABLE READ")
    connection.exec_driver_sql("START TRANSACTION WITH CONSISTENT SNAPSHOT")
    return connection


def estimate_rows(
    lender: Any, rows: Select[Any], params: Mapping[str, Any], table: Table | None
) -> int | None:
    """Return the optimizer's own estimate of a select's rows."""
    estimate = 1.0
    for step in lender.execute(explain(rows), params).mappings():
        passing = float(step.get("filtered") or 100.0) / 100
        estimate *= float(step["rows"] or 0) * passing
    return round(estimate)
