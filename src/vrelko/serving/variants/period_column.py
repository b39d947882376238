"""The column that a listing's years, months and days are told by."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import tzinfo
from typing import Any, Literal

from vrelko.core.periods import Periods, parse_zone
from vrelko.errors import ListingError
from vrelko.sql.names import read_names
from vrelko.sql.outlines import Described
from vrelko.sql.period_filters import column_kind


@dataclass(frozen=True, slots=True)
class PeriodColumn:
    """The column that a listing's periods are told by."""

    name: str
    element: Any
    kind: Literal["date", "naive", "zoned"]
    stored: tzinfo


def period_column(found: Described, periods: Periods) -> PeriodColumn:
    """Return the column of a listing's periods. Raises ListingError and OrderError."""
    name = periods.column
    if found.wrapped or found.merged:
        raise ListingError(
            f"rows that are merged or computed as a whole have no periods of {name!r}",
            "Put a condition with two dates into the select",
            "period-column",
        )
    names = read_names(found.select, found.sources)
    element = names.find(name)
    # The name that orders have for it, so that both can be compared.
    name = names.name_of(element) or name
    return PeriodColumn(name, element, column_kind(name, element), parse_zone(periods.stored))
