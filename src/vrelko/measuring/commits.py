"""Watching commits: how long after its key a row becomes visible."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Engine, Table, inspect, select

from vrelko.core.drift.settle_delay import Delays
from vrelko.engines.registry import database_errors
from vrelko.errors import DatabaseError, nearest
from vrelko.surveying.tables import reflect

_LOOK_BACK_S = 60.0
_MOST_ROWS = 50_000


def watch_commits(
    engine: Engine,
    table: str | Table,
    column: str,
    seconds: float = 30.0,
    every_s: float = 0.05,
    progress: Callable[[int], None] | None = None,
) -> Delays:
    """Watch a table's tail for a time; return how late its rows became visible.

    `column` holds when a row was written, by the clock of whoever wrote it (naive values are UTC,
    numbers are seconds since 1970), and should lead an index: each look reads the last minute's
    rows by it, 50,000 at most. A delay is the time from the value to the first look that sees the
    row, so it may be too long by `every_s`, and by what the clocks differ. Raises DatabaseError.
    """
    with database_errors("watching of commits"), engine.connect() as connection:
        # A table by its name is read from the database, one of the model is taken as it is.
        found = reflect(inspect(engine), table) if isinstance(table, str) else table
        if column not in found.c:
            raise DatabaseError(
                f"the table {found.name!r} has no column {column!r}",
                nearest(column, found.c.keys()),
                "column-missing",
            )
        # Without a key, rows are told apart by all they hold.
        key = list(found.primary_key.columns) or list(found.c)
        moment = found.c[column]
        asked = select(moment, *key).order_by(moment.desc()).limit(_MOST_ROWS)
        ends, seen, delays = time.monotonic() + seconds, set(), []
        began = time.time()
        first = True
        while first or time.monotonic() < ends:
            look = time.time()
            # A minute back: a transaction that was open for longer is not seen.
            since = _moment_of(moment, min(began, look) - _LOOK_BACK_S)
            for row in connection.execute(asked.where(moment > since)):
                identity = tuple(row[1:])
                if identity in seen:
                    continue
                seen.add(identity)
                # What the first look finds was there before; nobody knows since when.
                if not first:
                    # By the clock of this machine at the look, not at the row: fetching takes time.
                    delays.append(look - _seconds_of(row[0]))
            connection.rollback()  # the next look sees what is committed by then
            first = False
            if progress is not None:
                progress(len(delays))
            time.sleep(every_s)
    return Delays.of(delays, every_s)


def _moment_of(column: Any, seconds: float) -> Any:
    try:
        kind = column.type.python_type
    except NotImplementedError:
        kind = float
    if not issubclass(kind, datetime):
        return seconds
    moment = datetime.fromtimestamp(seconds, UTC)
    return moment if getattr(column.type, "timezone", False) else moment.replace(tzinfo=None)


def _seconds_of(value: Any) -> float:
    if isinstance(value, datetime):
        return (value if value.tzinfo else value.replace(tzinfo=UTC)).timestamp()
    return float(value)
