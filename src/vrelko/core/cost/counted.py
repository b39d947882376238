"""What each engine's own counters show of a work."""

from __future__ import annotations

from collections.abc import Callable

from vrelko.core.cost.mariadb import handler_rows
from vrelko.core.cost.work import Work

UNITS = {"sqlite": "steps", "postgresql": "buffers", "mariadb": "handler rows"}
"""The counter of each engine that estimates are held against: SQLite's virtual machine steps,
PostgreSQL's shared buffers (found or read), the rows MariaDB's handlers hand over."""


def counted_as(engine: str, work: Work) -> float:
    """Return what an engine's counter is expected to show for a work."""
    return _COUNTS[engine](work)


_COUNTS: dict[str, Callable[[Work], float]] = {
    "sqlite": lambda work: work.steps,
    "postgresql": lambda work: work.blocks,
    "mariadb": handler_rows,
}
