"""Surveying PostgreSQL tables: catalog and statistics, with a few sampled blocks."""

from __future__ import annotations

import random
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection
from sqlalchemy.exc import DBAPIError

from vrelko.core.facts import ColumnFacts, TableFacts, usual_width
from vrelko.core.sample_estimates import (
    common_values,
    correlate,
    expect_distinct,
    share_bounds,
)
from vrelko.engines.limits import is_time_limit
from vrelko.engines.postgresql import catalog
from vrelko.surveying.budget import Budget
from vrelko.surveying.probes import WINDOWS, is_walkable, probe_indexes

SAMPLED_BLOCKS = 24
_LEAST_MS = 100.0  # that a statement may take, however little of the budget is left


def survey_table(
    connection: Connection, name: str, budget: Budget, notes: list[str]
) -> TableFacts | None:
    """Return facts on a table, None where there is none. Raises DBAPIError."""
    table = catalog.read_table(connection, name, notes)
    if table is None or table.columns == () or table.is_view:
        return table
    name = table.name
    names = [column.name for column in table.columns]
    known = all(column.width is not None for column in table.columns)
    # PostgreSQL says -1 of a table that was never analysed.
    stale = table.rows < 0 or not known or all(c.null_share is None for c in table.columns)
    try:
        # A refusal ends the transaction there, and the survey goes on after it.
        with connection.begin_nested():
            sample = catalog.sample_rows(connection, table, names, SAMPLED_BLOCKS)
    except Exception as error:
        if "permission denied" not in str(error):
            raise
        notes.append(f"{name}: no row could be sampled; what statistics leave out is guessed")
        return table if table.rows >= 0 else _guessed(table, catalog.block_bytes(connection))
    if stale and sample:
        notes.append(
            f"{name}: no statistics were ever taken; numbers come from {len(sample):,} sampled rows"
        )
        table = _from_sample(table, sample, catalog.block_bytes(connection))
    table = replace(table, rows=max(table.rows, 0.0))
    if not sample or not table.indexes:
        return table
    if budget.spent:
        notes.append(f"{name}: the time was spent before its indexes were probed")
        return table
    # Rows from anywhere in their blocks: windows that begin at the edges would switch too often.
    rng = random.Random(1)
    picked = [rng.choice(sample)[1] for _ in range(WINDOWS)]
    starts = [dict(zip(names, row, strict=True)) for row in picked]
    try:
        with connection.begin_nested() as point:
            catalog.steer_to_indexes(connection, max(budget.left_ms, _LEAST_MS))
            table = _with_levels(connection, table)
            table = probe_indexes(
                connection,
                table,
                catalog.quoted_name(connection, name),
                f"{catalog.PART_OF_ROW if table.partitions else 0}, {catalog.BLOCK_OF_ROW}",
                starts,
                budget,
                notes,
            )
            if point.is_active:
                point.rollback()  # the settings with it
    except DBAPIError as error:
        if not is_time_limit(error):
            raise
        connection.rollback()
        notes.append(f"{name}: the time was spent before its indexes were probed")
    return table


def _with_levels(connection: Connection, table: TableFacts) -> TableFacts:
    """Return the table with the levels of its indexes as the planner knows them."""
    quote = connection.dialect.identifier_preparer.quote_identifier
    found = []
    for index in table.indexes:
        if is_walkable(index) and not table.partitions:
            terms = [
                quote(str(column.name)).replace(":", "\\:")
                + (" DESC" if column.descending else "")
                + (" NULLS FIRST" if column.nulls_first else " NULLS LAST")
                for column in index.columns
            ]
            levels = catalog.levels_of(connection, table, index, ", ".join(terms))
            index = replace(index, levels=levels or index.levels)
        found.append(index)
    return replace(table, indexes=tuple(found))


def _guessed(table: TableFacts, block: int) -> TableFacts:
    """Return the table with its rows guessed from its blocks and the widths of its types."""
    width = sum(column.width or usual_width(column.type) for column in table.columns) + 28
    return replace(
        table,
        rows=round(table.blocks * block / width),
        row_bytes=width,
        rows_from="guessed from its blocks",
    )


def _from_sample(table: TableFacts, sample: list[tuple[int, Any]], block: int) -> TableFacts:
    """Return the table with rows and columns as a sample of whole blocks has them."""
    # Whole blocks were drawn, so rows a block times blocks is the table.
    blocks = len({block for block, _ in sample})
    rows = table.rows if table.rows >= 0 else table.blocks * len(sample) / max(blocks, 1)
    columns = []
    for i, column in enumerate(table.columns):
        # Rows of whole blocks: neighbours in the table, which correlated columns show.
        values = [row[i] for _, row in sample]
        common = tuple(common_values(values))
        found = _sampled(column, values, rows, common)
        if not table.partitions:  # whose blocks are numbered each by itself
            found = replace(found, correlation=correlate([at for at, _ in sample], values))
        columns.append(found)
    bytes_ = table.blocks * block / rows if rows else 0.0
    return replace(
        table,
        rows=round(rows),
        rows_from="sampled blocks",
        columns=tuple(columns),
        row_bytes=round(bytes_, 1),
    )


def _sampled(
    column: ColumnFacts, values: list[Any], rows: float, common: tuple[tuple[str, float], ...]
) -> ColumnFacts:
    texts = [str(value) for value in values if value is not None]
    # One byte tells the length of a short text.
    width = column.width or (sum(map(len, texts)) / len(texts) + 1 if texts else 8.0)
    distinct = expect_distinct(values, rows)
    return replace(
        column,
        width=width,
        null_share=sum(v is None for v in values) / len(values),
        distinct=distinct,
        common=common,
        bounds=share_bounds(values, common),
    )
