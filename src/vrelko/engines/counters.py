"""Counting what statements read: rows or index entries, in each engine's own counters.

PostgreSQL: rows that scans returned plus all rows they removed, from EXPLAIN ANALYZE of the same
statements, and shared buffers. MariaDB: Handler_read_* plus Handler_icp_attempts, which counts
entries tested inside the storage engine. SQLite: steps of its virtual machine.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, event

from vrelko.engines.explain import plan_in
from vrelko.engines.sqlite.capabilities import count_steps


@dataclass(frozen=True, slots=True)
class Reads:
    """What statements read: `entries` (VM steps on SQLite), `blocks` where the engine tells.

    `handlers` are MariaDB's Handler_read_* alone.
    """

    entries: int
    blocks: int | None = None
    statements: int = 0
    handlers: int = 0


def count_reads(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Run a function that sends statements on a connection, and count what they read."""
    name = connection.dialect.name
    if name == "sqlite":
        with sent_on(connection) as sent, count_steps(connection) as steps:
            run()
        return Reads(steps.count, None, len(sent))
    if name == "postgresql":
        return _count_postgresql(connection, run)
    return _count_mariadb(connection, run)


def _count_mariadb(connection: Connection, run: Callable[[], Any]) -> Reads:
    """Count by differences, which needs no right; looking itself reads rows, always as many."""
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


def _count_postgresql(connection: Connection, run: Callable[[], Any]) -> Reads:
    with sent_on(connection) as sent:
        run()
    return count_again(connection, sent)


def count_again(connection: Connection, sent: Sequence[tuple[str, Any]]) -> Reads:
    """Run PostgreSQL's statements under EXPLAIN ANALYZE, and count what they read."""
    entries = blocks = 0
    for statement, parameters in sent:
        explain = "EXPLAIN (ANALYZE, BUFFERS, TIMING OFF, FORMAT JSON) " + statement
        found = connection.exec_driver_sql(explain, parameters).scalar()
        plan = plan_in(found)
        blocks += _buffers(plan)
        entries += sum(_scanned(plan))
    return Reads(entries, blocks, len(sent))


def _buffers(node: Mapping[str, Any]) -> int:
    return int(node.get("Shared Hit Blocks", 0) + node.get("Shared Read Blocks", 0))


def _scanned(node: Mapping[str, Any]) -> Iterator[int]:
    """Yield rows that each scan returned and removed."""
    if "Scan" in node["Node Type"] and node["Node Type"] != "Subquery Scan":
        removed = sum(v for k, v in node.items() if k.startswith("Rows Removed"))
        yield int((node["Actual Rows"] + removed) * node["Actual Loops"])
    for child in node.get("Plans", ()):
        yield from _scanned(child)


@contextmanager
def sent_on(connection: Connection) -> Iterator[list[tuple[str, Any]]]:
    """Collect the statements that are sent on a connection, with their parameters."""
    sent: list[tuple[str, Any]] = []

    def note(_c: Any, _cursor: Any, statement: str, parameters: Any, *_: Any) -> None:
        sent.append((statement, parameters))

    event.listen(connection, "before_cursor_execute", note)
    try:
        yield sent
    finally:
        event.remove(connection, "before_cursor_execute", note)
