"""Running page statements and noting what was asked."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from time import perf_counter
from typing import Any, TypeVar

from sqlalchemy import Select
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import DataError, DBAPIError, InvalidRequestError, StatementError

from vrelko.engines.limits import is_time_limit, limit_reached
from vrelko.engines.mariadb.capabilities import is_index_gone
from vrelko.engines.registry import database_errors
from vrelko.engines.troubles import explain
from vrelko.errors import DatabaseError, PageError, VrelkoError
from vrelko.sql.entities import core_connection
from vrelko.sql.indexes import has_hint, without_hint
from vrelko.sql.rows import Cutter

log = logging.getLogger("vrelko")
_Found = TypeVar("_Found")


_UNBOUND = ("cannot adapt type", "Error binding parameter")
"""How psycopg and sqlite3 say that they can send no such value."""


@dataclass(slots=True)
class Asked:
    """One statement that was run: the select, rows that came back, seconds it took.

    `values` are the parameters it ran with; neither printing nor logging shows them.
    """

    select: Select[Any]
    rows: int
    seconds: float
    values: Mapping[str, Any] = field(default_factory=dict, repr=False)

    def __str__(self) -> str:
        return str(self.select)


class Runner:
    """Runs selects on one connection for one page."""

    __slots__ = ("_connection", "_forget", "asked", "limited", "params")

    def __init__(
        self, connection: Any, params: Mapping[str, Any], forget: Callable[[], None] | None = None
    ) -> None:
        """`forget` is told when an index that a statement names is gone."""
        self._connection = connection
        self._forget = forget
        self.params = params
        self.asked: list[Asked] = []
        self.limited = False

    def look(self, select: Select[Any], read: Callable[[Any, Dialect], _Found]) -> _Found:
        """Return what a function reads of the catalog of the database that a select is for."""
        # A Session may have another database for each entity.
        connection = core_connection(self._connection, select)
        with database_errors("look into the catalog"):
            return read(connection, connection.dialect)

    def fetch(
        self,
        select: Select[Any],
        cutter: Cutter | None,
        ours: Mapping[str, Any],
        apart: Callable[[Any], Any] | None = None,
    ) -> tuple[Sequence[Any], Sequence[Any]]:
        """Return the rows as the user's select has them, and the full rows with hidden keys.

        `cutter` takes hidden columns off, None when nothing is hidden. `apart`: what tells rows
        apart where they hold entities, which may load collections by a join: their key.
        Raises DatabaseError when the database refuses, PageError when a value does not fit.
        """
        began = perf_counter()
        # Ours last: a parameter of the user's cannot have one of our names.
        values = {**self.params, **ours}
        try:
            result = self._connection.execute(select, values)
        except (StatementError, ArithmeticError, ValueError, TypeError) as error:
            # Somebody dropped the index since: the page is read without, and later ones ask anew.
            if isinstance(error, DBAPIError) and is_index_gone(error) and has_hint(select):
                if self._forget is not None:
                    self._forget()
                return self.fetch(without_hint(select), cutter, ours, apart)
            raise self._explain(error) from error
        except InvalidRequestError as error:  # closed, or waiting for a rollback
            raise explain(error) or error from error
        try:
            # Before rows are counted: a joined collection brings an entity several times.
            if apart is not None:
                result = result.unique(apart)
            if cutter is None:
                rows = full = result.all()
            else:
                rows, full = cutter.split(result)
        except DBAPIError as error:
            raise self._explain(error, fetching=True) from error
        except (LookupError, ValueError, TypeError, ArithmeticError) as error:
            raise _unreadable() from error  # by the model's type
        seconds = perf_counter() - began
        self.asked.append(Asked(select, len(rows), seconds, values))
        if log.isEnabledFor(logging.DEBUG):
            log.debug("%d rows in %.1f ms: %s", len(rows), seconds * 1e3, select)
        return rows, full

    def value(self, select: Select[Any], ours: Mapping[str, Any] | None = None) -> Any:
        """Return the single value a select gives. Raises what `fetch` raises."""
        rows, _ = self.fetch(select, None, ours or {})
        return rows[0][0]

    def _explain(self, error: Exception, fetching: bool = False) -> VrelkoError:
        """Return what to tell of a failed statement; values of rows and requests stay out."""
        # Without a limit of ours the same code means that somebody else cancelled it.
        if isinstance(error, DBAPIError) and self.limited and is_time_limit(error):
            return limit_reached()
        known = explain(error) if isinstance(error, DBAPIError) else None
        if known is not None:
            return known
        if isinstance(error, DBAPIError) and fetching and isinstance(error, DataError):
            return _unreadable()
        # The driver could not even send the value, which is its holder's mistake.
        unbound = any(word in str(getattr(error, "orig", "")) for word in _UNBOUND)
        if isinstance(error, DBAPIError) and not isinstance(error, DataError) and not unbound:
            return DatabaseError(
                f"the database refused a page statement: {error.orig}",
                "Check that the tables and columns of the listing exist on this database",
                "statement-refused",
            )
        return PageError(
            "a key or parameter does not fit the column it is compared with",
            "Give values of the column's own type",
            "value-misfit",
        )


def _unreadable() -> DatabaseError:
    return DatabaseError(
        "a row of the page holds a value that the driver or the column's type cannot read",
        "Cast the column to text in the select, or mend the row",
        "row-unreadable",
    )
