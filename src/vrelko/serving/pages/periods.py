"""Archives by year, month and day: which periods have rows, and which lie around one."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

from vrelko.core.periods import (
    CalendarPeriod,
    PeriodClock,
    Unit,
    check_unit,
    parse_period,
    parse_zone,
)
from vrelko.core.spot import Spot
from vrelko.engines.registry import capabilities_of, dialect_of
from vrelko.errors import PageError
from vrelko.serving.anchors.lookup import AnchorLookup
from vrelko.serving.pages.jumps import by_anchors
from vrelko.serving.pages.page import PageOfPeriod
from vrelko.serving.pages.request import BoundRequest, open_variant
from vrelko.serving.settings import Settings
from vrelko.serving.variants.period_column import PeriodColumn
from vrelko.sql.period_filters import BOUND, FROM, UNTIL, PeriodStatements, bound_values

_DAY = timedelta(days=1)

MOST_PERIODS = 1_000
"""Periods that one call lists at most."""


@dataclass(frozen=True, slots=True)
class Period:
    """A year, month or day that has rows.

    `label`: "2026", "2026-07" or "2026-07-14". `begin` and `end`: the least value of the column
    inside, and the least behind it. `rows`: how many, None where they were not counted. `spot`: its
    first row in the listing's order, for `read` of the whole listing; None in a gap, which has no
    rows, and where the listing is not ordered by the column.
    """

    label: str
    unit: Unit
    begin: date
    end: date | None
    rows: int | None = None
    spot: Spot | None = None


@dataclass(frozen=True, slots=True)
class PeriodReader:
    """Asks for periods of one variant, on one connection.

    `lookup`: by the anchors of an order that the column leads; `ahead`: rows ahead of each bound
    that they told.
    """

    opened: BoundRequest
    column: PeriodColumn
    clock: PeriodClock
    lookup: AnchorLookup | None = None
    ahead: dict[date, int | None] = field(default_factory=dict)

    def listed(
        self, unit: Unit, within: CalendarPeriod | None, newest_first: bool, most: int
    ) -> Iterator[CalendarPeriod]:
        """Yield periods that have rows.

        One descent of an index for each: the rows between two boundaries are not read.
        """
        # Bounds in the column's own terms, whatever zone the reader has.
        low, high = (None, None) if within is None else self.clock.bounds(within)
        # From the end that is listed first, inside of what was asked for.
        bound = high if newest_first else low
        last: CalendarPeriod | None = None
        # Each turn is one period, so that a column with a row a day for ages ends too.
        for _ in range(most):
            beside = self._beside(last, newest_first, low, high)
            if beside is not None:
                yield beside
                last, bound = beside, self.clock.bounds(beside)[0 if newest_first else 1]
                continue
            value = self._nearest(newest_first, bound)
            if value is None:
                return
            # The nearest one lies outside of what was asked for.
            if newest_first and low is not None and value < low:
                return
            if not newest_first and high is not None and value >= high:
                return
            period = self.clock.period_at(value, unit)
            yield period
            begin, end = self.clock.bounds(period)
            last, bound = period, begin if newest_first else end
            if bound is None:
                return

    def _beside(
        self, last: CalendarPeriod | None, newest_first: bool, low: date | None, high: date | None
    ) -> CalendarPeriod | None:
        """Return the period beside the last one where anchors tell that it has rows."""
        # The first period must be found; those beside it are mostly there.
        if last is None or self.lookup is None:
            return None
        found = last.previous if newest_first else last.next
        if found is None:
            return None
        begin, end = self.clock.bounds(found)
        inside = end and not (low and end <= low) and not (high and begin >= high)
        return found if end and inside and self._by_anchors(begin, end) else None

    def rows(self, period: CalendarPeriod) -> int:
        """Return how many rows a period has."""
        begin, end = self.clock.bounds(period)
        counted = self._by_anchors(begin, end) if self.lookup is not None and end else None
        if counted is not None:
            return counted
        asked = self._statements().rows()
        return int(self.opened.runner.value(asked, {FROM: begin, UNTIL: end or date.max}))

    def _by_anchors(self, begin: date, end: date) -> int | None:
        """Return the rows of a period by counted anchors, None where they cannot tell."""
        assert self.lookup is not None
        term = self.opened.variant.order.terms[0]
        nulls_first = term.nullable and term.nulls == "first"
        near = self._statements().ahead(term.descending, nulls_first)
        # Each boundary ends one period and begins the next: asked for once.
        for bound in (begin, end):
            if bound not in self.ahead:
                self.ahead[bound] = self.lookup.ahead_of_value(bound, near, BOUND)
        one, other = self.ahead[begin], self.ahead[end]
        return None if one is None or other is None else abs(other - one)

    def around(self, period: CalendarPeriod) -> PageOfPeriod:
        """Return a period with the labels of the nearest ones that have rows."""
        begin, end = self.clock.bounds(period)
        # By the next row on either side: how many empty periods lie between does not matter.
        ahead = self._nearest(True, begin)
        behind = None if end is None else self._nearest(False, end)
        earlier, later = (
            None if value is None else self.clock.period_at(value, period.unit).label
            for value in (ahead, behind)
        )
        return PageOfPeriod(period.label, earlier, later)

    def _nearest(self, below: bool, bound: date | None) -> Any:
        asked = self._statements().nearest(below, bound is not None)
        values = {} if bound is None else bound_values(bound)
        rows, _ = self.opened.runner.fetch(asked, None, values)
        return rows[0][0] if rows else None

    def _statements(self) -> PeriodStatements:
        return self.opened.variant.periods(self.column.element)


def clock_of(
    settings: Settings, lender: Any, time_zone: object
) -> tuple[PeriodColumn, PeriodClock]:
    """Return a listing's column of periods, and its clock for a reader. Raises PageError."""
    column = settings.variants.periods
    if column is None:
        raise PageError(
            f"the listing {settings.name!r} has no periods",
            'Name its date/time column: Listing(…, periods="caught_at")',
            "periods-unset",
        )
    kind = column.kind
    if kind == "zoned" and not capabilities_of(dialect_of(lender, settings.select)).zoned_moments:
        kind = "naive"  # the zone was lost when the value was stored
    if time_zone is None:
        return column, PeriodClock(kind, column.stored, column.stored)
    if column.kind == "date":
        raise PageError(
            f"{column.name!r} holds dates, which have no time zone: got {str(time_zone)[:60]!r}",
            "Leave time_zone out",
            "period-zone",
        )
    return column, PeriodClock(kind, parse_zone(time_zone), column.stored)


def within_period(
    settings: Settings,
    lender: Any,
    params: Mapping[str, Any] | None,
    period: object,
    time_zone: object,
) -> dict[str, Any]:
    """Return parameters with the bounds of a period. Raises PageError."""
    _, clock = clock_of(settings, lender, time_zone)
    begin, end = clock.bounds(parse_period(period))
    # Behind the year 9999 there is no moment to bound by.
    return {**(params or {}), FROM: begin, UNTIL: end or begin.replace(year=9999, month=12, day=31)}


def around(
    settings: Settings,
    lender: Any,
    period: object,
    params: Mapping[str, Any] | None,
    time_zone: object,
) -> PageOfPeriod:
    """Return a page's period with its neighbours that have rows."""
    column, clock = clock_of(settings, lender, time_zone)
    opened = open_variant(settings, lender, params, None, None)
    return PeriodReader(opened, column, clock).around(parse_period(period))


def list_periods(
    settings: Settings,
    lender: Any,
    unit: object,
    within: object,
    newest_first: bool,
    gaps: bool,
    counts: bool,
    most: int,
    params: Mapping[str, Any] | None,
    order: str | None,
    time_zone: object,
) -> tuple[Period, ...]:
    """Return the periods of a listing; see `Listing.periods`."""
    chosen = check_unit(unit)
    if type(most) is not int or not 1 <= most <= MOST_PERIODS:
        raise PageError(
            f"most must be a whole number from 1 to {MOST_PERIODS:,}, got {most!r}",
            "Give a smaller number, or a period in within=",
            "period-most",
        )
    column, clock = clock_of(settings, lender, time_zone)
    inside = None if within is None else parse_period(within)
    opened = open_variant(settings, lender, params, order, None)
    reader = PeriodReader(opened, column, clock, _lookup(opened, column) if counts else None)
    found: list[Period] = []
    last: CalendarPeriod | None = None
    for period in reader.listed(chosen, inside, newest_first, most):
        if gaps and last is not None:
            for empty in _between(last, period, most - len(found) - 1):
                begin, end = clock.bounds(empty)
                # A gap counts towards the most: ages without rows would be a long answer.
                found.append(Period(empty.label, chosen, begin, end, 0))
        if len(found) >= most:
            break
        begin, end = clock.bounds(period)
        rows = reader.rows(period) if counts else None
        spot = _first_spot(opened, column, begin, end)
        found.append(
            Period(label=period.label, unit=chosen, begin=begin, end=end, rows=rows, spot=spot)
        )
        last = period
    return tuple(found)


def _lookup(opened: BoundRequest, column: PeriodColumn) -> AnchorLookup | None:
    """Return the lookup by anchors that tells its periods' rows, None without.

    Static anchors are as of their last count, so periods are counted.
    """
    if opened.settings.jumps != "anchors" or opened.variant.order.terms[0].name != column.name:
        return None

    def ask(lookup: AnchorLookup) -> AnchorLookup | None:
        return lookup if lookup.rows is opened.variant and not lookup.static else None

    return by_anchors(opened, ask)


def _between(last: CalendarPeriod, now: CalendarPeriod, most: int) -> Iterator[CalendarPeriod]:
    """Yield the empty periods between two, in the direction from one to the other."""
    down = now.begin < last.begin
    at = last.previous if down else last.next
    while at is not None and at != now and most > 0:
        yield at
        most -= 1
        at = at.previous if down else at.next


def _first_spot(
    opened: BoundRequest, column: PeriodColumn, begin: date, end: date | None
) -> Spot | None:
    """Return where a period's rows begin in the order, None where it does not lead the order."""
    term = opened.variant.order.terms[0]
    # In another order the period's rows are scattered, and begin nowhere.
    if term.name != column.name:
        return None
    if not term.descending:
        return Spot.at_value(begin)
    if end is None:
        return Spot.start()
    # Descending, the period begins at its last moment: the least one below its end.
    return Spot.at_value(end - (timedelta(microseconds=1) if column.kind != "date" else _DAY))
