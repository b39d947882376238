"""PostgreSQL: time limits, counts, read views and estimates of statements."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from typing import Any

from sqlalchemy import Connection, Engine, Select, Table, text
from sqlalchemy.exc import DBAPIError, SQLAlchemyError

from vrelko.engines.explain import explain, plan_in
from vrelko.engines.reads import Reads, sent_on


def count_reads(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Run a function that sends statements on a connection; count them by running them again."""
    with sent_on(connection) as sent:
        run()
    return count_again(connection, sent)


def count_again(connection: Connection, sent: Sequence[tuple[str, Any]]) -> Reads:
    """Run statements under EXPLAIN ANALYZE, and count what they read."""
    entries = blocks = 0
    for statement, parameters in sent:
        again = "EXPLAIN (ANALYZE, BUFFERS, TIMING OFF, FORMAT JSON) " + statement
        found = connection.exec_driver_sql(again, parameters).scalar()
        # Buffers of the top node contain those of all below.
        plan = plan_in(found)
        blocks += _buffers(plan)
        entries += sum(_scanned(plan))
    return Reads(entries, blocks, len(sent))


def _buffers(node: Mapping[str, Any]) -> int:
    return int(node.get("Shared Hit Blocks", 0) + node.get("Shared Read Blocks", 0))


def _scanned(node: Mapping[str, Any]) -> Iterator[int]:
    """Yield rows that each scan returned and removed."""
    # A subquery's rows were counted below it.
    if "Scan" in node["Node Type"] and node["Node Type"] != "Subquery Scan":
        # By a filter, a recheck or a join: read and thrown away.
        removed = sum(v for k, v in node.items() if k.startswith("Rows Removed"))
        yield int((node["Actual Rows"] + removed) * node["Actual Loops"])
    for child in node.get("Plans", ()):
        yield from _scanned(child)


@contextmanager
def limit_time(lender: Any, ms: float) -> Iterator[None]:
    """Limit the transaction's statements; one that fails leaves the transaction as it was.

    Inside a transaction of the caller's a savepoint is set; one that begins here is rolled back.
    """
    alone = _commits_alone(lender)  # then a limit for the transaction would end with itself
    inside = lender.in_transaction() and not alone
    # SET takes no parameter; the function does.
    change = text("SELECT set_config('statement_timeout', :ms, :local)")
    # It is the user's, and comes back afterwards.
    before = lender.execute(text("SHOW statement_timeout")).scalar()
    if inside:
        lender.execute(text("SAVEPOINT vrelko_limit"))
    lender.execute(change, {"ms": str(max(round(ms), 1)), "local": not alone})
    try:
        yield
    except BaseException:
        with suppress(SQLAlchemyError):  # a lost connection takes its limit with it
            if inside:
                lender.execute(text("ROLLBACK TO SAVEPOINT vrelko_limit"))
            elif alone:
                lender.execute(change, {"ms": str(before), "local": False})
            else:
                lender.rollback()
        raise
    lender.execute(change, {"ms": str(before), "local": not alone})
    if inside:
        lender.execute(text("RELEASE SAVEPOINT vrelko_limit"))


def _commits_alone(lender: Any) -> bool:
    """Tell whether each statement is a transaction of its own (AUTOCOMMIT)."""
    connection = lender.connection() if hasattr(lender, "get_bind") else lender
    return bool(getattr(connection.connection.dbapi_connection, "autocommit", False))


def is_time_limit(error: DBAPIError) -> bool:
    """Tell whether a statement failed because it ran into its time limit."""
    return getattr(error.orig, "sqlstate", None) == "57014"  # query_canceled


def holds_views(engine: Engine) -> bool:
    """Tell whether one connection can see rows as they were: always."""
    return True


def writes_beside_views(engine: Engine) -> bool:
    """Tell whether others can write while a view is held: always."""
    return True


def begin_view(connection: Connection, snapshot: str | None) -> Connection:
    """Begin a repeatable read, of what a snapshot sees where one is named."""
    connection = connection.execution_options(isolation_level="REPEATABLE READ")
    # The snapshot is taken by the first statement, not by BEGIN.
    begins = "SELECT 1"
    if snapshot is not None:
        quoted = snapshot.replace("'", "''").replace("%", "%%")
        begins = f"SET TRANSACTION SNAPSHOT '{quoted}'"
    connection.exec_driver_sql(begins)
    return connection


def estimate_rows(
    lender: Any, rows: Select[Any], params: Mapping[str, Any], table: Table | None
) -> int | None:
    """Return the optimizer's own estimate of a select's rows."""
    return int(plan_in(lender.execute(explain(rows), params).scalar())["Plan Rows"])
