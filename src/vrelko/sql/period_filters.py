"""Filters and statements of periods: what a date/time column holds between two moments."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import (
    BindParameter,
    ColumnElement,
    DateTime,
    Select,
    String,
    TypeDecorator,
    and_,
    bindparam,
    or_,
)
from sqlalchemy.engine.interfaces import Dialect

from vrelko.errors import ListingError
from vrelko.sql.counts import build_count
from vrelko.sql.engines import SQL_ENGINES
from vrelko.sql.keys import plainly

PERIOD = "period"
"""The name of the filter."""
FROM, UNTIL = "period_from", "period_until"
"""Its parameters: the least value inside, and the least behind."""
BOUND = "vrelko_period"


def shortest_text(moment: datetime) -> str:
    """Return the shortest text of a moment, ahead of all others as texts are compared."""
    return moment.replace(tzinfo=None).isoformat(" ").removesuffix(" 00:00:00")


class PeriodBound(TypeDecorator[Any]):
    """A moment that bounds a period, as a column of dates and times is compared with it.

    SQLite compares texts, which others than SQLAlchemy write without a fraction of a second, or
    with a T: the shortest text stands ahead of each of them that means the same moment or a later.
    """

    impl = DateTime
    # It has no settings but those of its impl, so statements with it can be cached.
    cache_ok = True

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:
        """Return the moment, on SQLite as its shortest text."""
        if not SQL_ENGINES[dialect.name].moments_as_text or not isinstance(value, datetime):
            return value
        return shortest_text(value)

    def load_dialect_impl(self, dialect: Dialect) -> Any:
        """Return the type that binds: text on SQLite, as the value is written already."""
        as_text = SQL_ENGINES[dialect.name].moments_as_text
        return dialect.type_descriptor(String() if as_text else self.impl_instance)

    @property
    def python_type(self) -> type:
        """The type of the values that are given."""
        return datetime


def _bound(name: str, column: ColumnElement[Any]) -> BindParameter[Any]:
    # Bound as the column is stored, so that the comparison is the column's own.
    kind: Any = column.type
    if isinstance(kind, DateTime):
        kind = PeriodBound(timezone=kind.timezone)
    return bindparam(name, type_=kind)


def column_kind(name: str, column: ColumnElement[Any]) -> Literal["date", "naive", "zoned"]:
    """Return whether a column holds dates or moments. Raises ListingError for any other."""
    try:
        kind: type = column.type.python_type
    except NotImplementedError:
        kind = str
    if issubclass(kind, datetime):
        return "zoned" if getattr(column.type, "timezone", False) else "naive"
    if issubclass(kind, date):
        return "date"
    raise ListingError(
        f"periods of {name!r} cannot be told: it is not a date/time column",
        "Name a column of dates or of dates and times",
        "period-column",
    )


def period_filter(column: ColumnElement[Any]) -> ColumnElement[bool]:
    """Return the condition of rows from `period_from` up to, without, `period_until`."""
    plain = plainly(column)
    return and_(plain >= _bound(FROM, column), plain < _bound(UNTIL, column))


@dataclass(frozen=True, slots=True)
class PeriodStatements:
    """What is asked about a column of the rows that a variant counts: `counted`, unordered."""

    counted: Select[Any]
    column: ColumnElement[Any]
    _built: dict[Any, Any] = field(default_factory=dict, compare=False)

    def nearest(self, below: bool, bounded: bool) -> Select[Any]:
        """The greatest value below a bound, or the least at or above it; unbounded: of all."""
        return self._kept((below, bounded), lambda: self._nearest(below, bounded))

    def _nearest(self, below: bool, bounded: bool) -> Select[Any]:
        bound, column = _bound(BOUND, self.column), plainly(self.column)
        # A row without a moment is in no period.
        chosen = self._values().where(column.is_not(None))
        if bounded:
            chosen = chosen.where(column < bound if below else column >= bound)
        return chosen.order_by(column.desc() if below else column.asc()).limit(1)

    def ahead(self, descending: bool, nulls_first: bool) -> ColumnElement[bool]:
        """The condition of rows that stand ahead of a bound in an order by the column."""
        bound, column = _bound(BOUND, self.column), plainly(self.column)
        near = column >= bound if descending else column < bound
        # A comparison with NULL is never true, so those rows must be named.
        return or_(near, column.is_(None)) if nulls_first else near

    def rows(self) -> Select[Any]:
        """How many rows a period has."""

        def build() -> Select[Any]:
            return build_count(self.counted.where(period_filter(self.column)), None)

        return self._kept("rows", build)

    def _kept(self, name: object, build: Callable[[], Select[Any]]) -> Select[Any]:
        """Return a statement built once: that takes longer than to run it."""
        found: Select[Any] | None = self._built.get(name)
        if found is None:
            found = self._built[name] = build()
        return found

    def _values(self) -> Select[Any]:
        value = self.column.label("vrelko_value")
        return self.counted.order_by(None).with_only_columns(value, maintain_column_froms=True)


def bound_values(value: Any) -> dict[str, Any]:
    """Return the parameter of `PeriodStatements.nearest`."""
    return {BOUND: value}
