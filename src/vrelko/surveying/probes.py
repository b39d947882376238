"""Probing indexes: where the rows of neighbouring entries lie, from a few short windows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, text
from sqlalchemy.exc import DBAPIError

from vrelko.core.facts import TableFacts
from vrelko.core.index import IndexFacts
from vrelko.core.sample_estimates import Neighbours, judge_neighbours
from vrelko.surveying.budget import Budget

WINDOWS = 16
WINDOW_ENTRIES = 64
"""Windows spread over an index, and entries read of each."""

_GROUP_ROWS = 200  # a column with more rows a value is walked inside one value


def probe_indexes(
    connection: Connection,
    table: TableFacts,
    source: str,
    place: str,
    starts: Sequence[dict[str, Any]],
    budget: Budget,
    notes: list[str],
) -> TableFacts:
    """Return the table with what windows tell of each index.

    `source` is the table as a statement names it, `place` the SQL of a row's place, after that of
    its partition if there is one; `starts` are rows to begin at. What does not fit into the
    budget is noted.
    """
    found: list[IndexFacts] = []
    left_out: list[str] = []
    for index in table.indexes:
        # Left out rather than rushed: an index without a probe is costed by its statistics.
        if budget.spent:
            left_out.append(index.name)
        elif is_walkable(index):
            near = _probe(connection, table, index, source, place, starts)
            if near is not None:
                index = replace(
                    index,
                    switches=round(near.switches, 4),
                    far=round(near.far, 4),
                    consecutive=round(near.consecutive, 4),
                )
        found.append(index)
    if left_out:
        notes.append(f"{table.name}: the time was spent before {', '.join(left_out)} was probed")
    return replace(table, indexes=tuple(found))


def is_walkable(index: IndexFacts) -> bool:
    """Tell whether an index holds every row, by columns that a statement can name."""
    return not index.partial and all(column.name for column in index.columns)


def _probe(
    connection: Connection,
    table: TableFacts,
    index: IndexFacts,
    source: str,
    place: str,
    starts: Sequence[dict[str, Any]],
) -> Neighbours | None:
    quote = connection.dialect.identifier_preparer.quote_identifier
    conditions: list[tuple[str, str]] = []
    order: list[str] = []
    columns = list(index.columns)
    for i, column in enumerate(columns):
        name = str(column.name)
        own = quote(name).replace(":", "\\:")
        distinct = table.column(name).distinct or 1.0
        # Of a column with few values a window lies within one of them; the columns behind it tell
        # the order.
        grouped = table.rows / max(distinct, 1.0) > _GROUP_ROWS and i < len(columns) - 1
        if grouped and not order:
            conditions.append((name, f"{own} = :v{i}"))
            continue
        if not order:
            conditions.append((name, f"{own} {'<=' if column.descending else '>='} :v{i}"))
        order.append(own + (" DESC" if column.descending else ""))
    where = " AND ".join(condition for _, condition in conditions)
    # Only places are read, so that an index alone may answer.
    statement = text(
        f"SELECT {place} FROM {source} WHERE {where} ORDER BY {', '.join(order)} "
        f"LIMIT {WINDOW_ENTRIES}"
    )
    windows: list[list[int]] = []
    for start in starts[:WINDOWS]:
        values = {f"v{i}": start[name] for i, (name, _) in enumerate(conditions)}
        # No comparison with NULL is true, so a window cannot begin there.
        if any(value is None for value in values.values()):
            continue
        try:
            parts: dict[int, list[int]] = {}  # neighbours within one partition
            for row in connection.execute(statement, values):
                parts.setdefault(int(row[0]) if len(row) > 1 else 0, []).append(int(row[-1]))
            windows += parts.values()
        except DBAPIError:  # a value the driver cannot give back, or the time ran out
            connection.rollback()
            break
    return judge_neighbours(windows, table.blocks)
