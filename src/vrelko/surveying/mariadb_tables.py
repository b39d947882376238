"""Surveying MariaDB tables: catalog, and rows sampled by their primary key."""

from __future__ import annotations

import random
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, text
from sqlalchemy.exc import DBAPIError

from vrelko.core.facts import ColumnFacts, TableFacts
from vrelko.core.sample_estimates import (
    PREFIX,
    common_values,
    correlate,
    expect_distinct,
    share_bounds,
)
from vrelko.engines.mariadb import catalog
from vrelko.surveying.budget import Budget

PROBES = 600
_ROWS_A_PROBE = 8
"""Places that are sought by key, and neighbouring rows read at each."""

_TOGETHER = 30  # probes a statement
_WINDOWS, _WINDOW_ROWS = 48, 32


def survey_table(
    connection: Connection, name: str, budget: Budget, notes: list[str]
) -> TableFacts | None:
    """Return facts on a table, None where there is none. Raises DBAPIError."""
    table = catalog.read_table(connection, name, notes)
    if table is None or table.is_view:
        return table
    key, by = table.primary_key, _sampled_by(table)
    try:
        # Windows of keys tell the rows only where each key is one row.
        if by is not None and key == (by,):
            table = _count_by_windows(connection, table, by)
        if by is not None:
            rows = _probe_by_key(connection, table, by, budget)
        else:
            rows = _first_rows(connection, table)
            notes.append(
                f"{name}: it has no integer key to sample by; columns come from its first rows"
            )
    except DBAPIError as error:
        if "denied" not in str(error):
            raise
        notes.append(f"{name}: no row could be sampled; what the catalog leaves out is guessed")
        rows = []
    # InnoDB keeps these for what leads an index, from pages all over it.
    stored = catalog.distinct_of(connection, name)
    placed = [c.name for c in table.columns].index(by) if by is not None and by in key[:1] else None
    places = [] if placed is None else [row[placed] for row in rows]
    columns = [
        _column(column, [row[i] for row in rows], table, stored.get(column.name), by, places)
        for i, column in enumerate(table.columns)
    ]
    return replace(table, columns=tuple(columns))


def _sampled_by(table: TableFacts) -> str | None:
    """Return an integer column that an index begins with, the primary key's before others."""
    # Sought by key: without one, rows can be had from the beginning alone.
    firsts = [*table.primary_key[:1], *(index.columns[0].name for index in table.indexes)]
    for name in firsts:
        if name is None or not table.has_column(name):
            continue
        column = table.column(name)
        if "int" in column.type.lower() and (name in table.primary_key or not column.nullable):
            return name
    return None


def _column(
    column: ColumnFacts,
    values: list[Any],
    table: TableFacts,
    stored: float | None,
    by: str | None,
    places: list[int],
) -> ColumnFacts:
    """Return a column's facts from sampled values, drawn along the column `by`, or of first rows.

    Of first rows the server's own count of distinct values, where it has one, is nearer the truth.
    """
    if not values:
        return replace(column, distinct=stored)
    common = tuple(common_values(values))
    apart = values[::_ROWS_A_PROBE]  # neighbours may be alike, and would tell of few values
    distinct = expect_distinct(apart if len(values) > PROBES else values, table.rows)
    if table.primary_key == (column.name,):
        distinct = table.rows
    elif column.name == by and len(values) > PROBES:
        distinct = table.rows * (1 - _alike(values))  # each is followed by as many like it
    elif stored and by is None:
        distinct = min(max(stored, distinct or 0.0), table.rows)
        if distinct > len(common):
            common = ()
    elif stored and len(common) < len(set(values)):
        distinct = min(max(stored, distinct or 0.0), table.rows)
    texts = [value for value in values if isinstance(value, (str, bytes))]
    width = sum(len(t) for t in texts) / len(values) + 1 if texts else column.width
    return replace(
        column,
        width=None if width is None else round(width, 1),
        distinct=distinct,
        null_share=round(sum(value is None for value in values) / len(values), 4),
        common=common,
        bounds=share_bounds(values, common),
        correlation=correlate(places, values) if places else None,
    )


def _alike(values: list[Any]) -> float:
    """Return the share of neighbours within one probe that are equal, never 1."""
    pairs = [
        values[i] == values[i + 1]
        for i in range(len(values) - 1)
        if i % _ROWS_A_PROBE < _ROWS_A_PROBE - 1
    ]
    return min(float(sum(pairs)) / max(len(pairs), 1), 1 - 1e-3)


def _listed(connection: Connection, table: TableFacts) -> str:
    parts = []
    for column in table.columns:
        own = _quote(connection, column.name)
        long = any(kind in column.type.lower() for kind in ("char", "text", "blob", "binary"))
        parts.append(f"substr({own}, 1, {PREFIX})" if long else own)
    return ", ".join(parts)


def _count_by_windows(connection: Connection, table: TableFacts, key: str) -> TableFacts:
    """Return the table with its rows as the density of keys in windows, times their span, tells."""
    t, k = catalog.quoted_name(connection, table.name), _quote(connection, key)
    low, high = connection.execute(text(f"SELECT min({k}), max({k}) FROM {t}")).one()
    # So few keys are counted as fast as they are sampled.
    if low is None or high - low < _WINDOWS * _WINDOW_ROWS:
        rows = float(connection.execute(text(f"SELECT count(*) FROM {t}")).scalar() or 0)
        return replace(table, rows=rows, rows_from="counted")
    # The same places in each survey, so that two of them can be compared.
    rng = random.Random(1)
    ahead = (
        f"(SELECT {k} FROM {t} WHERE {k} >= {{at}} ORDER BY {k} LIMIT 1 OFFSET {_WINDOW_ROWS - 1})"
    )
    ats = [low + rng.randrange(high - low + 1) for _ in range(_WINDOWS)]
    # One statement for all windows: each would be a journey of its own.
    parts = [f"SELECT {at} AS at_, {ahead.format(at=at)} AS last_" for at in ats]
    found = connection.execute(text(" UNION ALL ".join(parts))).all()
    # A window that begins near the end may have too few rows to close.
    ends = [(at, last) for at, last in found if last is not None]
    covered = sum(last - at + 1 for at, last in ends)
    if not covered:
        return table
    rows = round((high - low + 1) * len(ends) * _WINDOW_ROWS / covered)
    bytes_ = table.row_bytes * table.rows / rows if table.rows else table.row_bytes
    return replace(
        table, rows=float(rows), rows_from="sampled windows of keys", row_bytes=round(bytes_, 1)
    )


def _probe_by_key(connection: Connection, table: TableFacts, key: str, budget: Budget) -> list[Any]:
    t, k = catalog.quoted_name(connection, table.name), _quote(connection, key)
    listed = _listed(connection, table)
    low, high = connection.execute(text(f"SELECT min({k}), max({k}) FROM {t}")).one()
    if low is None:
        return []
    # So short a span is read whole sooner than it is sampled.
    if high - low < PROBES:
        return list(connection.execute(text(f"SELECT {listed} FROM {t} LIMIT {PROBES}")))
    rng = random.Random(2)
    one = f"(SELECT {listed} FROM {t} WHERE {k} >= {{at}} ORDER BY {k} LIMIT {_ROWS_A_PROBE})"
    rows: list[Any] = []
    for _ in range(PROBES // _TOGETHER):
        # At least one round: columns without any value would all be guesses.
        if budget.spent and rows:
            break
        ats = [low + rng.randrange(high - low + 1) for _ in range(_TOGETHER)]
        rows += connection.execute(text(" UNION ALL ".join(one.format(at=at) for at in ats)))
    return rows


def _first_rows(connection: Connection, table: TableFacts) -> list[Any]:
    listed, t = _listed(connection, table), catalog.quoted_name(connection, table.name)
    return list(connection.execute(text(f"SELECT {listed} FROM {t} LIMIT {PROBES}")))


def _quote(connection: Connection, name: str) -> str:
    quoted = connection.dialect.identifier_preparer.quote_identifier(name)
    return quoted.replace(":", "\\:")
