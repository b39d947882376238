"""Running page statements and noting what was asked."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from time import perf_counter
from typing import Any, TypeVar

from sqlalchemy import Select
from sqlalchemy import select as make_select
from sqlalchemy.engine.interfaces import Dialect
from sqlalchemy.exc import (
    DataError,
    DBAPIError,
    InvalidRequestError,
    SQLAlchemyError,
    StatementError,
)

from vrelko.engines.limits import is_time_limit, limit_reached
from vrelko.engines.mariadb.capabilities import is_index_gone
from vrelko.engines.registry import database_errors
from vrelko.engines.troubles import explain
from vrelko.errors import DatabaseError, PageError, VrelkoError
from vrelko.serving.variants.moved import CatalogMovedError, Knowledge, Watched
from vrelko.sql.entities import core_connection
from vrelko.sql.indexes import has_hint, without_hint
from vrelko.sql.rows import Cutter

log = logging.getLogger("vrelko")
_Found = TypeVar("_Found")


_UNBOUND = ("cannot adapt type", "Error binding parameter")
"""How psycopg and sqlite3 say that they can send no such value."""

_FIRST_AND_LAST_YEAR = (1, 9999)

_UNDECODED = "Could not decode"
"""How sqlite3 says that a text is none."""


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

    __slots__ = ("_connection", "_known", "_variant", "asked", "limited", "params")

    def __init__(
        self,
        connection: Any,
        params: Mapping[str, Any],
        known: Knowledge | None = None,
        variant: Watched | None = None,
    ) -> None:
        """`known` is told when what it knows of the database has changed, for a `variant`."""
        self._connection = connection
        self._known = known
        self._variant = variant
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
        variant: Watched | None = None,
    ) -> tuple[Sequence[Any], Sequence[Any]]:
        """Return the rows as the user's select has them, and the full rows with hidden keys.

        `cutter` takes hidden columns off. `apart` tells rows apart where they hold entities, which
        may load collections by a join. `variant`: the one whose rows these are; their columns are
        compared with what is known of them. Raises CatalogMovedError where these are others,
        DatabaseError when the database refuses, PageError when a value does not fit.
        """
        began = perf_counter()
        # Ours last: a parameter of the user's cannot have one of our names.
        values = {**self.params, **ours}
        try:
            result = self._connection.execute(select, values)
        except (StatementError, ArithmeticError, ValueError, TypeError) as error:
            # Somebody dropped the index since: the page is read without, and later ones ask anew.
            if isinstance(error, DBAPIError) and is_index_gone(error) and has_hint(select):
                if self._known is not None:
                    self._known.forget()
                return self.fetch(without_hint(select), cutter, ours, apart, variant)
            raise self._explain(error) from error
        except InvalidRequestError as error:  # closed, or waiting for a rollback
            raise explain(error) or error from error
        same: bool | None = True
        if variant is not None and variant.record is not None:
            # The protocol tells at no cost whether these are the tables that are known.
            cursor = getattr(getattr(result, "raw", result), "cursor", None)
            wires = _by_place(cursor, variant.wires) if variant.named else variant.wires
            same = variant.record.shows(cursor, wires) if wires else None
            if same is False:
                raise CatalogMovedError(variant)
        try:
            # Before rows are counted: a joined collection brings an entity several times.
            if apart is not None:
                result = result.unique(apart)
            if cutter is None:
                rows = full = result.all()
            else:
                rows, full = cutter.split(result)
        except Exception as error:  # a driver's, or whatever a model's type raises
            raise self._explain_rows(error, select, values) from error
        if same is None and variant is not None and variant.schemas is not None:
            self._check_schemas(variant)
        if variant is not None and variant.moments and full:
            self._check_moments(variant, full)
        seconds = perf_counter() - began
        self.asked.append(Asked(select, len(rows), seconds, values))
        if log.isEnabledFor(logging.DEBUG):
            log.debug("%d rows in %.1f ms: %s", len(rows), seconds * 1e3, select)
        return rows, full

    def check_end(self, variant: Watched) -> None:
        """Raise CatalogMovedError where rows may stand behind the last one, unseen for a NULL."""
        if self._known is not None:
            self._known.check_end(self._connection, variant)

    def value(self, select: Select[Any], ours: Mapping[str, Any] | None = None) -> Any:
        """Return the single value a select gives. Raises what `fetch` raises."""
        rows, _ = self.fetch(select, None, ours or {})
        return rows[0][0]

    def _explain_rows(
        self, error: Exception, select: Select[Any], values: Mapping[str, Any]
    ) -> VrelkoError:
        """Return the error for rows that could not be fetched; raise what is no row's fault."""
        if isinstance(error, DBAPIError):
            # By the driver; SQLite's shows the value, which must not be shown.
            if not (isinstance(error, DataError) or _UNDECODED in str(error.orig)):
                return self._explain(error)
        elif isinstance(error, SQLAlchemyError):  # how the Session is used, not what a row holds
            raise error
        self._read_as_texts()
        return self._unreadable(select, values)

    def _check_schemas(self, variant: Watched) -> None:
        """Raise CatalogMovedError where rows that are of no table may be of other schemas."""
        if self._known is not None and not self._known.sees(self._connection, variant):
            raise CatalogMovedError(variant)

    def _check_moments(self, variant: Watched, full: Sequence[Any]) -> None:
        """Read moments as texts where one may stand for an infinite one, as drivers are taught."""
        for place, first in variant.moments:
            # The first term's least and greatest values stand at the edges.
            for row in (full[0], full[-1]) if first else full:
                if getattr(row[place], "year", 0) in _FIRST_AND_LAST_YEAR:
                    self._read_as_texts()

    def _read_as_texts(self) -> None:
        """Raise CatalogMovedError where moments of the order come as texts at the next try."""
        variant = self._variant
        if variant is None or not variant.moments or variant.dialect is None:
            return
        if self._known is not None:
            self._known.read_as_texts(variant.dialect, self._connection)
            raise CatalogMovedError(variant, unreadable=True)

    def _unreadable(self, select: Select[Any], values: Mapping[str, Any]) -> DatabaseError:
        """Return the error for a row that cannot be read, with the column that is to blame."""
        where, rows = "", select.subquery()
        for column in rows.c:
            # Each column by itself: no driver says which of them it failed at.
            try:
                self._connection.execute(make_select(column), values).all()
            except Exception:  # as above: types raise what they like
                where = f" in {column.name!r} ({type(column.type).__name__})"
                break
        return DatabaseError(
            f"a row of the page holds a value{where} that the driver or the column's type "
            "cannot read",
            "Cast the column to text in the select, or mend the row",
            "row-unreadable",
        )

    def _explain(self, error: Exception) -> VrelkoError:
        """Return what to tell of a failed statement; values of rows and requests stay out."""
        # Without a limit of ours the same code means that somebody else cancelled it.
        if isinstance(error, DBAPIError) and self.limited and is_time_limit(error):
            return limit_reached()
        known = explain(error) if isinstance(error, DBAPIError) else None
        if known is not None:
            return known
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


def _by_place(
    cursor: Any, wires: Sequence[tuple[str, Any, bool]]
) -> tuple[tuple[int, Any, bool], ...]:
    """Return named columns by their places in a result; those that it has."""
    columns = getattr(cursor, "description", None) or ()
    places = {column[0]: i for i, column in enumerate(columns)}
    return tuple((places[name], *rest) for name, *rest in wires if name in places)
