"""Shares for a scroll bar: the rows at 63 % of the way, and how far down a row stands."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from vrelko.core.distribution import SORTED_ALIKE, Distribution
from vrelko.core.spot import Spot
from vrelko.engines.registry import database_errors, dialect_of, record_of
from vrelko.errors import PageError
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.pages.jumps import by_anchors
from vrelko.serving.pages.request import BoundRequest, open_variant
from vrelko.serving.settings import Settings
from vrelko.serving.variants.row_keys import python_type
from vrelko.sql.entities import adds_criteria, core_connection
from vrelko.sql.sources import own_column


@dataclass(frozen=True, slots=True)
class Share:
    """How far down a row stands: `value` from 0 to 1.

    `error`: how far that may be off either way, 0 where it is counted, None where nothing tells.
    """

    value: float
    error: float | None


def spot_at_share(
    settings: Settings,
    lender: Any,
    share: object,
    params: Mapping[str, Any] | None,
    order: str | None,
) -> Spot:
    """Return where the rows at a share of the way begin; see `Listing.spot_at_share`."""
    number = isinstance(share, (int, float)) and not isinstance(share, bool)
    if not isinstance(share, (int, float)) or not number or not 0 <= share <= 1:
        raise PageError(
            f"a share must be a number from 0 to 1, got {share!r}",
            "Give 0.5 for the middle",
            "share-value",
        )
    opened = open_variant(settings, lender, params, order, None)
    # Ends need no statistics, which may not even be there.
    if share in (0, 1):
        return Spot.start() if share == 0 else Spot.end()
    rows = None
    if settings.jumps == "anchors":
        rows = by_anchors(opened, lambda lookup: lookup.total())
    # Counted, a share is a row number, which a jump reaches.
    if rows is not None:
        return Spot.offset(min(math.floor(share * rows), max(rows - 1, 0)))
    term = opened.variant.order.terms[0]
    found = _distribution(opened)
    first = found.nulls if term.nullable and term.nulls == "first" else 0.0
    # The distribution is that of values; NULLs stand in one piece at an end.
    goal = (share - first) / max(1 - found.nulls, 1e-12)
    if goal <= 0:
        return Spot.start()
    if goal >= 1:
        return Spot.end()
    value = found.value_at(1 - goal if term.descending else goal)
    return Spot.at_value(value)


def share_of(
    settings: Settings,
    lender: Any,
    at: object,
    params: Mapping[str, Any] | None,
    order: str | None,
) -> Share:
    """Return how far down a row stands; see `Listing.share_of`."""
    opened = open_variant(settings, lender, params, order, None)
    key = opened.spot_of(Spot.before(at)).key or ()

    def told(lookup: AnchorLookup) -> Share:
        error = None if lookup.static else 0.0
        return Share(lookup.rank(key) / max(lookup.total(), 1), error)

    counted = by_anchors(opened, told) if settings.jumps == "anchors" else None
    if counted is not None:
        return counted
    term = opened.variant.order.terms[0]
    found = _distribution(opened)
    first = found.nulls if term.nullable and term.nulls == "first" else 0.0
    # All NULLs stand in one piece, so how far off a row may be is the size of that.
    if key[0] is None:
        return Share(0.0 if first else 1 - found.nulls, found.nulls)
    ahead = found.share_of(key[0])
    ahead = 1 - ahead if term.descending else ahead
    return Share(first + ahead * (1 - found.nulls), found.error)


def _distribution(opened: BoundRequest) -> Distribution:
    """Return how the first column of a request's order is spread. Raises PageError."""
    settings, source = opened.settings, opened.variant.source
    table = settings.paged_table
    element = own_column(source.keys[0].element, table)
    described = settings.variants.described
    # Statistics are of a table's rows, not of those that a join or a filter leaves.
    changed = described.wrapped or described.merged or len(described.sources.tables) > 1
    changed |= getattr(opened.variant.rows(), "whereclause", None) is not None
    changed |= adds_criteria(settings.select)
    if table is None or element is None or changed:
        raise _unknown("statistics are of whole tables and of their columns")
    if python_type(element) not in SORTED_ALIKE:
        raise _unknown(f"the values of {element.name!r} are neither numbers nor moments")
    connection = core_connection(opened.lender, settings.select)
    dialect = dialect_of(connection)
    with database_errors("read statistics"):
        found = record_of(dialect).read_distribution(connection, table, element.name, dialect)
    known = found is not None and (*found.bounds, *found.common)
    if found is None or not known or not all(isinstance(one, SORTED_ALIKE) for one in known):
        raise _unknown(f"nothing here tells how the values of {element.name!r} are spread")
    return found


def _unknown(why: str) -> PageError:
    return PageError(
        f"no share can be told: {why}",
        'Count by anchors (jumps="anchors"), or page without a scroll bar',
        "share-unknown",
    )
