"""Where a row stands among others, and how many stand ahead of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from vrelko.core.arithmetic import MOST_OFFSET, Total, number_of
from vrelko.core.spot import Spot
from vrelko.errors import PageError
from vrelko.serving.pages.jumps import by_anchors
from vrelko.serving.pages.request import BoundRequest, open_variant
from vrelko.serving.settings import Settings
from vrelko.sql.parameters import key_parameters


@dataclass(frozen=True, slots=True)
class RowPosition:
    """Where a row stands: the page `number` from 1, the row's `offset` from 0, and its page."""

    number: int
    offset: int

    @property
    def spot(self) -> Spot:
        """The page that holds the row."""
        return Spot.number(self.number)


def where_is(
    settings: Settings,
    lender: Any,
    key: object,
    size: object,
    params: Mapping[str, Any] | None,
    order: str | None,
) -> RowPosition:
    """Return the place of a row; see `Listing.where_is`."""
    rows = settings.sizes.check(size)
    opened = open_variant(settings, lender, params, order, None)
    # As any spot is read, so that a row, an entity or plain values will do.
    values = opened.spot_of(Spot.before(key)).key or ()
    offset = None
    if settings.jumps == "anchors":
        offset = by_anchors(opened, lambda lookup: lookup.rank(values))
    if offset is None:
        offset = _count_behind(opened, values, True, None)
    return RowPosition(number_of(offset, rows), offset)


def count_ahead(
    settings: Settings,
    lender: Any,
    cursor: str | Spot,
    most: int,
    params: Mapping[str, Any] | None,
    order: str | None,
    scope: object,
) -> Total:
    """Return how many rows stand ahead of a page; see `Listing.count_ahead`."""
    if type(most) is not int or not 1 <= most <= MOST_OFFSET:
        raise PageError(
            f"most must be a whole number above 0, got {most!r}", "Give most=99", "count-most"
        )
    opened = open_variant(settings, lender, params, order, scope)
    spot = opened.spot_of(cursor)
    if spot.key is None:  # an empty page has no row to count from
        whole = int(opened.runner.value(opened.variant.count(most)))
        return Total(most, "capped") if whole > most else Total(whole, "exact")
    counted = _count_behind(opened, spot.key, spot.kind == "before", most)
    return Total(most, "capped") if counted > most else Total(counted, "exact")


def _count_behind(
    opened: BoundRequest, key: tuple[Any, ...], backward: bool, cap: int | None
) -> int:
    ours = key_parameters(key)
    total = 0
    for statement in opened.variant.count_behind(key, backward, cap):
        total += int(opened.runner.value(statement, ours))
        # More than is asked for: the other statements need not be run.
        if cap is not None and total > cap:
            break
    return total
