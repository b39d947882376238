"""Calendar periods: years, months and days, where they begin and end, and how they are named."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta, tzinfo
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from vrelko.core.outline import check_choice
from vrelko.errors import PageError

Unit = Literal["year", "month", "day"]
UNITS: tuple[Unit, ...] = ("year", "month", "day")

_TEXT = re.compile(r"(\d{4})(?:-(\d{2})(?:-(\d{2}))?)?")


@dataclass(frozen=True, slots=True)
class CalendarPeriod:
    """A year, month or day of the Gregorian calendar; `begin` is its first day."""

    unit: Unit
    begin: date

    @property
    def label(self) -> str:
        """Its name, sortable as text: "2026", "2026-07" or "2026-07-14" (ISO 8601)."""
        # ISO 8601 puts the longer unit first, so a label is the beginning of a longer one.
        return self.begin.isoformat()[: {"year": 4, "month": 7, "day": 10}[self.unit]]

    @property
    def next(self) -> CalendarPeriod | None:
        """The period behind this one; None behind the year 9999."""
        try:
            return CalendarPeriod(self.unit, self._end())
        # Years end at 9999 in Python's calendar and in the engines'.
        except (OverflowError, ValueError):
            return None

    @property
    def previous(self) -> CalendarPeriod | None:
        """The period ahead of this one; None ahead of the year 1."""
        if self.begin == date.min:
            return None
        return period_of(self.begin - timedelta(days=1), self.unit)

    def bounds(self, zone: tzinfo | None = None) -> tuple[datetime, datetime | None]:
        """Return its first moment and the first moment behind it, in the zone; None: no zone.

        The second is None where the calendar ends.
        """
        # Made from its parts, not by adding days: the zone's own clock may be turned in between.
        begin = datetime(self.begin.year, self.begin.month, self.begin.day, tzinfo=zone)
        after = self.next
        if after is None:
            return begin, None
        return begin, datetime(after.begin.year, after.begin.month, after.begin.day, tzinfo=zone)

    def holds(self, other: CalendarPeriod) -> bool:
        """Tell whether another period lies inside this one, or is this one."""
        # ISO 8601 labels begin with those of the periods they lie in.
        return other.label.startswith(self.label)

    def _end(self) -> date:
        if self.unit == "day":
            return self.begin + timedelta(days=1)
        if self.unit == "year":
            return date(self.begin.year + 1, 1, 1)
        months = self.begin.year * 12 + self.begin.month  # the next one's, counted from 0
        return date(months // 12, months % 12 + 1, 1)


def period_of(day: date, unit: Unit) -> CalendarPeriod:
    """Return the period of a unit that a day lies in."""
    if unit == "year":
        return CalendarPeriod(unit, date(day.year, 1, 1))
    return CalendarPeriod(unit, date(day.year, day.month, 1 if unit == "month" else day.day))


def check_unit(unit: object) -> Unit:
    """Return a unit of periods. Raises ListingError for any other word."""
    check_choice(str(unit), UNITS, "unit")
    return next(one for one in UNITS if one == unit)


def parse_period(text: object) -> CalendarPeriod:
    """Return the period that a text names: "2026", "2026-07" or "2026-07-14".

    Raises PageError for any other text, and for a day that no calendar has.
    """
    if isinstance(text, CalendarPeriod):
        return text
    # \d takes the digits of every script, and int() too; addresses would have many spellings.
    found = _TEXT.fullmatch(text) if isinstance(text, str) and text.isascii() else None
    if found is not None:
        year, month, day = found.groups()
        unit: Unit = "day" if day else "month" if month else "year"
        try:
            return CalendarPeriod(unit, date(int(year), int(month or 1), int(day or 1)))
        except ValueError:
            pass
    raise PageError(
        f"{str(text)[:40]!r} is not a year, month or day",
        'Write it as "2026", "2026-07" or "2026-07-14"',
        "period-text",
    )


def parse_zone(name: object) -> tzinfo:
    """Return a time zone by its name, such as "Europe/Oslo". Raises PageError."""
    if isinstance(name, tzinfo):
        return name
    try:
        return ZoneInfo(str(name))
    # A name from an address may be a path, or too long for one.
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise PageError(
            f"{str(name)[:60]!r} is not a known time zone",
            'Give a name such as "UTC" or "Europe/Oslo"',
            "period-zone",
        ) from error


@dataclass(frozen=True, slots=True)
class Periods:
    """The date/time column by which a listing has years, months and days.

    `stored`: the time zone that values without one are in.
    """

    column: str
    stored: str | tzinfo = "UTC"


@dataclass(frozen=True, slots=True)
class PeriodClock:
    """Turns values of a column into periods, and periods into values of it.

    `kind`: the column holds a "date", a "naive" date and time or a "zoned" one. `reader`: the time
    zone in which days begin; `stored`: the one that naive values are in.
    """

    kind: Literal["date", "naive", "zoned"]
    reader: tzinfo = UTC
    stored: tzinfo = UTC

    def bounds(self, period: CalendarPeriod) -> tuple[date, date | None]:
        """Return the least value of a period, and the least value behind it."""
        if self.kind == "date":
            after = period.next
            return period.begin, None if after is None else after.begin
        begin, end = period.bounds(self.reader)
        return self._stored(begin), None if end is None else self._stored(end)

    def period_at(self, value: date, unit: Unit) -> CalendarPeriod:
        """Return the period that a value of the column lies in."""
        if isinstance(value, datetime):
            # What the column holds is in its own zone; which day that is depends on the reader's.
            if value.tzinfo is None:
                value = value.replace(tzinfo=self.stored)
            value = _clamped(value, self.reader).date()
        return period_of(value, unit)

    def _stored(self, moment: datetime) -> datetime:
        if self.kind == "zoned":
            return moment
        return _clamped(moment, self.stored).replace(tzinfo=None)


def _clamped(moment: datetime, zone: tzinfo) -> datetime:
    """Return a moment in another zone, or its own time where the calendar ends in between."""
    try:
        return moment.astimezone(zone)
    except OverflowError:
        return moment.replace(tzinfo=zone)
