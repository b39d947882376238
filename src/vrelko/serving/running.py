"""Running page statements and noting what was asked."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import dataclass
from time import perf_counter
from typing import Any

from sqlalchemy import Select
from sqlalchemy.exc import DBAPIError, StatementError

from vrelko.engines.limits import is_time_limit
from vrelko.errors import DatabaseError, PageError, TimeLimitError
from vrelko.sql.rows import Cutter

log = logging.getLogger("vrelko")


@dataclass(frozen=True, slots=True)
class Asked:
    """One statement that was run: the select, rows that came back, seconds it took."""

    select: Select[Any]
    rows: int
    seconds: float

    def __str__(self) -> str:
        return str(self.select)


class Runner:
    """Runs selects on one connection for one page."""

    def __init__(self, connection: Any, params: Mapping[str, Any]) -> None:
        self._connection = connection
        self.params = params
        self.asked: list[Asked] = []
        self.limited = False

    def fetch(
        self, select: Select[Any], cutter: Cutter | None, ours: Mapping[str, Any], orm: bool = False
    ) -> tuple[list[Any], list[Any]]:
        """Return the rows as the user's select has them, and the full rows with hidden keys.

        `cutter` takes hidden columns off, None when nothing is hidden. `orm`: rows hold
        entities, which may load collections by a join; the key in each row keeps rows apart.
        Raises DatabaseError when the database refuses, PageError when a value does not fit.
        """
        began = perf_counter()
        result = self._execute(select, ours)
        if orm:
            result = result.unique()
        if cutter is None:
            rows = full = list(result.all())
        else:
            rows, full = cutter.split(result)
        self._note(select, len(rows), began)
        return rows, full

    def value(self, select: Select[Any], ours: Mapping[str, Any] | None = None) -> Any:
        """Return the single value a select gives."""
        began = perf_counter()
        value = self._execute(select, ours or {}).scalar_one()
        self._note(select, 1, began)
        return value

    def _execute(self, select: Select[Any], ours: Mapping[str, Any]) -> Any:
        try:
            return self._connection.execute(select, {**self.params, **ours})
        except DBAPIError as error:
            if self.limited and is_time_limit(error):
                raise TimeLimitError(
                    "a statement ran longer than it may",
                    "Allow more time, add an index that fits, or ask for less",
                    "time-limit-reached",
                ) from error
            raise DatabaseError(
                f"the database refused a page statement: {error.orig}",
                "Check that the tables and columns of the listing exist on this database",
                "statement-refused",
            ) from error
        except (StatementError, OverflowError, UnicodeError) as error:
            raise PageError(
                "a key or parameter does not fit the column it is compared with",
                "Give values of the column's own type",
                "value-misfit",
            ) from error

    def _note(self, select: Select[Any], rows: int, began: float) -> None:
        seconds = perf_counter() - began
        self.asked.append(Asked(select, rows, seconds))
        if log.isEnabledFor(logging.DEBUG):
            log.debug("%d rows in %.1f ms: %s", rows, seconds * 1e3, select)
