"""Sampled windows: rows, widths, NULLs and values of a table from a bounded number of seeks."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, text

from vrelko.core.sample_estimates import PREFIX, is_long

PROBES = 1_000
"""Single rows read at random places for column statistics."""

WINDOWS = 64
WINDOW_ROWS = 32
"""Windows of neighbouring rows read for the row count."""

GROUP_ROWS = 300
"""Index entries counted at most for one group of equal values."""

COUNT_CAP = 10_000
"""Index entries counted at most for one parameter value."""


@dataclass(frozen=True, slots=True)
class Sample:
    """Sampled rows: for each column its values (long ones cut) and their stored bytes.

    `places` are the rows' ids, none where they have none.
    """

    values: Mapping[str, Sequence[Any]]
    widths: Mapping[str, Sequence[float]]
    size: int
    places: Sequence[int]


def count_by_windows(connection: Connection, table: str, row_id: str) -> float:
    """Return the number of rows: the density of row ids in windows, times their span.

    Exact where row ids have no gaps; a table with few ids is counted, which is as cheap.
    """
    t, r = quote_name(connection, table), quote_name(connection, row_id)
    low, high = (
        connection.execute(text(f"SELECT {edge}({r}) FROM {t}")).scalar() for edge in ("min", "max")
    )
    if low is None or high is None:
        return 0.0
    # Row ids are sought at random: where few are missing each row is about as likely.
    span = high - low + 1
    # So few rows are counted as fast as they are sampled.
    if span <= WINDOWS * WINDOW_ROWS:
        return float(connection.execute(text(f"SELECT count(*) FROM {t}")).scalar() or 0)
    ahead = text(
        f"SELECT {r} FROM {t} WHERE {r} >= :at ORDER BY {r} LIMIT 1 OFFSET {WINDOW_ROWS - 1}"
    )
    # The same places each time: two surveys of an unchanged table agree.
    rng = random.Random(1)
    rows = covered = 0
    for _ in range(WINDOWS):
        at = low + rng.randrange(span)
        last = connection.execute(ahead, {"at": at}).scalar()
        if last is not None:
            rows += WINDOW_ROWS
            covered += last - at + 1
    return span * rows / covered if covered else float(span)


def sample_rows(
    connection: Connection, table: str, row_id: str | None, columns: Sequence[str]
) -> Sample:
    """Return rows at random places; the first rows where there is no row id to seek by."""
    t = quote_name(connection, table)
    parts = []
    for column in columns:
        # Cut by the database, so that a long text is not sent to be thrown away.
        c = quote_name(connection, column)
        parts.append(
            f"CASE WHEN typeof({c}) IN ('text', 'blob') THEN substr({c}, 1, {PREFIX}) ELSE {c} END"
        )
        parts.append(f"length(CAST({c} AS BLOB))")
    listed = ", ".join(parts)
    if row_id is None:
        rows = list(connection.execute(text(f"SELECT {listed} FROM {t} LIMIT {PROBES}")))
    else:
        listed += f", {quote_name(connection, row_id)}"
        rows = _probe(connection, t, quote_name(connection, row_id), listed)
    # Two expressions a column: its value, cut, and how long it is.
    values = {name: [row[2 * i] for row in rows] for i, name in enumerate(columns)}
    widths = {
        name: [_stored(row[2 * i], row[2 * i + 1]) for row in rows]
        for i, name in enumerate(columns)
    }
    places = [] if row_id is None else [row[-1] for row in rows]
    return Sample(values, widths, len(rows), places)


def count_capped(connection: Connection, source: str, column: str, value: Any) -> int:
    """Return how many rows hold a value, COUNT_CAP at most; for columns that lead an index.

    `source` is the table as a statement names it.
    """
    c = quote_name(connection, column)
    found = connection.execute(
        text(
            f"SELECT count(*) FROM (SELECT 1 FROM {source} WHERE {c} = :value "
            f"LIMIT {COUNT_CAP}) AS one"
        ),
        {"value": value},
    )
    return int(found.scalar() or 0)


def distinct_by_index(
    connection: Connection, table: str, column: str, values: Sequence[Any], rows: float
) -> float | None:
    """Return the number of distinct values of a column that leads an index, from its tie groups.

    Over rows drawn alike, the mean of 1 / (rows that share the value) is distinct / rows (Horvitz
    and Thompson 1952). Groups are counted up to 300 rows, larger ones taken from the sample; None
    where most are larger, and for long texts.
    """
    t, c = quote_name(connection, table), quote_name(connection, column)
    group = text(f"SELECT count(*) FROM (SELECT 1 FROM {t} WHERE {c} = :value LIMIT {GROUP_ROWS})")
    full = [value for value in values if value is not None]
    if not full or any(is_long(value) for value in full):
        return None
    # Groups too large to be counted are estimated by how often the sample met them.
    often = Counter(full)
    # Each costs a statement; more than that would tell little more.
    taken = full[:: max(len(full) // WINDOWS, 1)]
    large = 0
    weight = 0.0
    for value in taken:
        size = int(connection.execute(group, {"value": value}).scalar() or 1)
        if size >= GROUP_ROWS:
            large += 1
            size = max(size, round(often[value] / len(values) * rows))
        weight += 1 / size
    # Mostly large groups: the sample itself tells their number better.
    if large * 2 > len(taken):
        return None
    return rows * len(full) / len(values) * weight / len(taken)


def _probe(connection: Connection, table: str, row_id: str, listed: str) -> list[Any]:
    low, high = (
        connection.execute(text(f"SELECT {edge}({row_id}) FROM {table}")).scalar()
        for edge in ("min", "max")
    )
    if low is None or high is None:
        return []
    span = high - low + 1
    if span <= PROBES:
        return list(connection.execute(text(f"SELECT {listed} FROM {table} LIMIT {PROBES}")))
    at_least = text(f"SELECT {listed} FROM {table} WHERE {row_id} >= :at ORDER BY {row_id} LIMIT 1")
    rng = random.Random(2)
    rows = []
    for _ in range(PROBES):
        row = connection.execute(at_least, {"at": low + rng.randrange(span)}).first()
        if row is not None:
            rows.append(row)
    return rows


def _stored(value: Any, length: int | None) -> float:
    """Return the bytes a value takes in an SQLite record, its header byte included."""
    if value is None:
        return 1.0
    if isinstance(value, float):
        return 9.0
    if isinstance(value, int):
        # 0 and 1 stand in the header alone (record format of SQLite's file).
        return 1.0 + (0 if value in (0, 1) else min((value.bit_length() + 8) // 8, 8))
    return 1.0 + float(length or 0)


def quote_name(connection: Connection, name: str) -> str:
    """Return a name as a statement text holds it."""
    quoted = connection.dialect.identifier_preparer.quote_identifier(name)
    return quoted.replace(":", "\\:")  # text() takes a bare colon for a parameter
