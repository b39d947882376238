"""Writes measured from a table itself: how often rows come, and where they land."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import Connection, Engine, Table, inspect, select

from vrelko.core.workload import Landing, Writers
from vrelko.engines.registry import database_errors, engine_name
from vrelko.errors import DatabaseError, nearest
from vrelko.surveying.engines import SURVEYS
from vrelko.surveying.tables import reflect

SAMPLE = 20_000
"""The newest rows that are looked at."""

_NOW_S = 1.0  # rows that are late by less land at the head


@dataclass(frozen=True, slots=True, kw_only=True)
class Writes:
    """How a table is written to, from its newest `sample` rows by `column` and primary key.

    `inserts_per_minute` over the sample's span; `by_hour` the mean in each hour of the day.
    `lateness_s` is how far behind the newest value a row's value was when the row came: its mean,
    median and 95th percentile, of `late_share` of the rows. Updates and deletes are per
    minute, the server's counts since its statistics began, None where it keeps none.
    """

    table: str
    column: str
    sample: int
    span_s: float
    inserts_per_minute: float
    by_hour: tuple[float, ...]
    late_share: float
    lateness_s: tuple[float, float, float]
    deletes_per_minute: float | None = None
    updates_per_minute: float | None = None
    notes: tuple[str, ...] = ()

    @property
    def lands(self) -> Landing:
        """Where new rows land in the order of newest first."""
        mean = self.lateness_s[0]
        return Landing("late", mean) if mean > _NOW_S else Landing("head")

    @property
    def writers(self) -> Writers:
        """The writers to plan with, of the whole table."""
        return Writers(self.inserts_per_minute, self.deletes_per_minute or 0.0, self.lands)

    def as_dict(self) -> dict[str, Any]:
        """Return the writes as plain data."""
        return {"schema": "vrelko.writes/1", **asdict(self), "lands": asdict(self.lands)}


def survey_writes(engine: Engine, table: str, column: str | None = None) -> Writes:
    """Return how a table is written to, read from its newest rows.

    `column` is a date and time, by default the first one that leads an index, else the first one.
    Rows are taken to have come in the order of the primary key. Reads SAMPLE rows by the primary
    key, and the server's own counters. Raises DatabaseError.
    """
    with database_errors("survey of writes"), engine.connect() as connection:
        found = reflect(inspect(connection), table)
        chosen = _choose(connection, found, column)
        key = list(found.primary_key.columns)
        if not key:
            raise DatabaseError(
                f"the table {table!r} has no primary key that grows with time, so it is unknown "
                "in which order rows came",
                "Give the rates by hand, under writers in the pages file",
                "writes-key",
            )
        newest = (
            select(found.c[chosen])
            .where(found.c[chosen].is_not(None))
            .order_by(*(one.desc() for one in key))
            .limit(SAMPLE)
        )
        # Newest by key first, as an index gives them; here in the order they came.
        moments = [row[0] for row in connection.execute(newest)][::-1]
        counters = SURVEYS[engine_name(connection.dialect)].read_changes(connection, table)
    moments = [_as_moment(one) for one in moments]
    if len(moments) < 2:
        raise DatabaseError(
            f"the table {table!r} has too few rows with a {chosen} to estimate rates from",
            "Give the rates by hand, under writers in the pages file",
            "writes-few",
        )
    return _read(table, chosen, moments, counters)


def _read(
    table: str, column: str, moments: Sequence[datetime], counters: dict[str, float]
) -> Writes:
    # How far behind the newest of those before it: the clock may not be this machine's.
    newest = moments[0]
    late = []
    for moment in moments:
        newest = max(newest, moment)
        late.append((newest - moment).total_seconds())
    span = max((max(moments) - _low(moments)).total_seconds(), 1.0)
    # Of the values' own clock, which is what people plan by.
    hours = Counter(moment.hour for moment in moments)
    # A sample of less than a day is one day's.
    days = max(span / 86_400, 1.0)
    ordered = sorted(late)
    notes = []
    if not counters:
        notes.append("the server counts no updates and deletes of a table")
    return Writes(
        table=table,
        column=column,
        sample=len(moments),
        span_s=span,
        inserts_per_minute=len(moments) / span * 60,
        by_hour=tuple(hours[hour] / days / 60 for hour in range(24)),
        late_share=sum(one > _NOW_S for one in late) / len(late),
        lateness_s=(sum(late) / len(late), _at(ordered, 0.5), _at(ordered, 0.95)),
        deletes_per_minute=counters.get("deletes"),
        updates_per_minute=counters.get("updates"),
        notes=tuple(notes),
    )


def _low(moments: Sequence[datetime]) -> datetime:
    """Return the moment that 1 % are before: a few very late rows do not stretch the span."""
    return sorted(moments)[len(moments) // 100]


def _at(ordered: Sequence[float], share: float) -> float:
    return ordered[min(int(share * len(ordered)), len(ordered) - 1)]


def _choose(connection: Connection, table: Table, wanted: str | None) -> str:
    """Return the column of moments to go by. Raises DatabaseError."""
    moments = [column.name for column in table.c if _holds_moments(column)]
    if wanted is not None:
        if wanted not in table.c:
            raise DatabaseError(
                f"the table {table.name!r} has no column {wanted!r}",
                nearest(wanted, table.c.keys()),
                "column-missing",
            )
        if wanted not in moments:
            raise DatabaseError(
                f"the column {wanted!r} is not a date/time column",
                f"Name one of {', '.join(moments) or 'none: there is no such column'}",
                "writes-column",
            )
        return wanted
    if not moments:
        raise DatabaseError(
            f"the table {table.name!r} has no column of dates and times",
            "Give the rates by hand, under writers in the pages file",
            "writes-column",
        )
    # What leads an index is what pages are likely to be sorted by.
    leads = [index["column_names"][0] for index in inspect(connection).get_indexes(table.name)]
    return next((name for name in moments if name in leads), moments[0])


def _holds_moments(column: Any) -> bool:
    try:
        return issubclass(column.type.python_type, date)
    except NotImplementedError:
        return False


def _as_moment(value: Any) -> datetime:
    if isinstance(value, datetime):
        return value.replace(tzinfo=None)
    return datetime(value.year, value.month, value.day)
