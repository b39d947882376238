"""Database time: what statements took, and what may still be spent."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from sqlalchemy import Engine, event

from vrelko.engines import clock
from vrelko.errors import PageError

BUDGET_MS = 2_000.0
"""Milliseconds of database time that planning, or measuring, one command's listings may take."""

_SHARE = 4.0  # of the budget that one statement may take
_LEAST_MS = 20.0


class Spending:
    """Counts the milliseconds that statements take on an engine, against a budget.

    Raises PageError for a budget that is not above 0.
    """

    def __init__(self, budget_ms: float) -> None:
        if type(budget_ms) not in (int, float) or not budget_ms > 0:
            raise PageError(
                f"a budget of database time must be above 0 ms, got {budget_ms!r}",
                "Give 2000 or the like, or plan with run=False",
                "budget",
            )
        self.budget_ms = float(budget_ms)
        self.spent_ms = 0.0
        self._began: float | None = None

    @property
    def left_ms(self) -> float:
        """Milliseconds left, 0 when spent."""
        return max(self.budget_ms - self.spent_ms, 0.0)

    @property
    def one_ms(self) -> float:
        """Milliseconds that the next statement may take; 0 when nothing is left for it."""
        # A statement that would get a few ms only is not worth starting: it would be cut off.
        most = min(self.budget_ms / _SHARE, self.left_ms)
        return most if most >= min(_LEAST_MS, self.budget_ms / _SHARE) else 0.0

    @contextmanager
    def watch(self, engine: Engine) -> Iterator[None]:
        """Count the statements that run on the engine inside the block."""

        # One statement runs at a time on a connection, so one moment is enough to remember.
        def begin(*_: Any) -> None:
            self._began = clock.now_s()

        def end(*_: Any) -> None:
            # An error is reported after the statement ended too; it is counted once.
            if self._began is not None:
                self.spent_ms += (clock.now_s() - self._began) * 1e3
                self._began = None

        # By SQLAlchemy's own events, so that every statement counts, whoever sends it.
        hooks = (
            ("before_cursor_execute", begin),
            ("after_cursor_execute", end),
            ("handle_error", end),
        )
        for name, hook in hooks:
            event.listen(engine, name, hook)
        try:
            yield
        finally:
            for name, hook in hooks:
                event.remove(engine, name, hook)

    def add(self, ms: float) -> None:
        """Count milliseconds that no statement's execution shows: SQLite works while rows come."""
        self.spent_ms += ms
