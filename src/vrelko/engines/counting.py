"""Counting what statements read: rows or index entries, in each engine's own counters.

PostgreSQL: rows that scans returned plus all rows they removed, from EXPLAIN ANALYZE of the same
statements, and shared buffers. MariaDB: Handler_read_* plus Handler_icp_attempts, which counts
entries tested inside the storage engine. SQLite: steps of its virtual machine.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, event

from vrelko.engines.estimates import plan_in
from vrelko.engines.sqlite import count_steps


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
        with _sent(connection) as sent, count_steps(connection) as steps:
            run()
        return Reads(steps.count, None, len(sent))
    if name == "postgresql":
        return _count_postgresql(connection, run)
    return _count_mariadb(connection, run)


def _count_mariadb(connection: Connection, run: Callable[[], Any]) -> Reads:
    connection.exec_driver_sql("FLUSH STATUS")
    with _sent(connection) as sent:
        run()
    rows = connection.exec_driver_sql(
        "SHOW SESSION STATUS WHERE Variable_name LIKE 'Handler_read%%' "
        "OR Variable_name = 'Handler_icp_attempts'"
    )
    counts = {str(name): int(value) for name, value in rows}
    inside = counts.pop("Handler_icp_attempts", 0)
    handlers = sum(counts.values())
    return Reads(handlers + inside, None, len(sent), handlers)


def _count_postgresql(connection: Connection, run: Callable[[], Any]) -> Reads:
    with _sent(connection) as sent:
        run()
    entries = blocks = 0
    for statement, parameters in sent:
        explain = "EXPLAIN (ANALYZE, BUFFERS, FORMAT JSON) " + statement
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
def _sent(connection: Connection) -> Iterator[list[tuple[str, Any]]]:
    """Collect the statements that are sent on a connection, with their parameters."""
    sent: list[tuple[str, Any]] = []

    def note(_c: Any, _cursor: Any, statement: str, parameters: Any, *_: Any) -> None:
        sent.append((statement, parameters))

    event.listen(connection, "before_cursor_execute", note)
    try:
        yield sent
    finally:
        event.remove(connection, "before_cursor_execute", note)
