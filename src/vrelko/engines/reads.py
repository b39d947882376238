"""What statements read, in the counters that each engine has."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, event


@dataclass(frozen=True, slots=True)
class Reads:
    """What statements read: `entries` (VM steps on SQLite), `blocks` where the engine tells.

    `handlers` are MariaDB's Handler_read_* alone.
    """

    entries: int
    blocks: int | None = None
    statements: int = 0
    handlers: int = 0


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
