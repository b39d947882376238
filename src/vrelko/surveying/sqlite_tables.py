"""Surveying SQLite tables: catalog, b-tree pages, and rows sampled by their row id."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, text

from vrelko.core.facts import ColumnFacts, TableFacts, usual_width
from vrelko.core.index import IndexFacts
from vrelko.core.sample_estimates import (
    common_values,
    correlate,
    expect_distinct,
    share_bounds,
)
from vrelko.engines.sqlite import catalog
from vrelko.errors import DatabaseError
from vrelko.surveying.budget import Budget
from vrelko.surveying.probes import probe_indexes
from vrelko.surveying.samples import (
    Sample,
    count_by_windows,
    distinct_by_index,
    quote_name,
    sample_rows,
)


def survey_table(
    connection: Connection, name: str, budget: Budget, notes: list[str]
) -> TableFacts | None:
    """Return facts on a table, None where there is none. Raises DBAPIError."""
    if catalog.is_view(connection, name):
        return _survey_view(connection, name, notes)
    if name not in catalog.list_tables(connection):
        return None
    declared = catalog.read_columns(connection, name)
    without = catalog.is_without_rowid(connection, name)
    keys = sorted((c for c in declared if c.key_place), key=lambda c: c.key_place)
    # Just this spelling makes a column the row id; INT PRIMARY KEY has an index of its own.
    alone = len(keys) == 1 and keys[0].type == "INTEGER" and not without
    row_id = keys[0].name if alone else None
    seek_by = row_id or (None if without else "rowid")
    # What ANALYZE stored may be old, so samples go before it where there are any.
    statistics = catalog.read_statistics(connection, name)
    tree = catalog.sample_tree(connection, name)
    if tree is None:
        notes.append(f"{name}: dbstat is not compiled in; widths and blocks come from samples")
    rows, rows_from = _count_rows(connection, name, seek_by, statistics, tree)
    if seek_by is None:
        notes.append(f"{name}: it has no row id to sample by; columns come from its first rows")
    sample = sample_rows(connection, name, seek_by, [column.name for column in declared])
    indexes = catalog.read_indexes(connection, name)
    # Only where a column leads a whole index can its groups be counted cheaply.
    led = {index.columns[0].name for index in indexes if index.columns and not index.partial}
    columns = [_column(column, sample, rows) for column in declared]
    for i, column in enumerate(columns):
        if column.name in led:
            values = sample.values[column.name]
            by_index = distinct_by_index(connection, name, column.name, values, rows)
            columns[i] = replace(
                column, distinct=round(by_index, 1) if by_index else column.distinct
            )
    # The b-tree's own cells where they can be looked at, else what the columns add up to.
    row_bytes = tree.cell_bytes if tree else sum(c.width or 0 for c in columns) + 4.0
    block = int(connection.exec_driver_sql("PRAGMA page_size").scalar() or 4096)
    by_tree = rows / tree.cells_per_leaf if tree and tree.cells_per_leaf else None
    blocks = by_tree or rows * row_bytes / block
    table = TableFacts(
        name=name,
        rows=rows,
        rows_from=rows_from,
        row_bytes=round(row_bytes, 1),
        blocks=max(round(blocks, 1), 1.0),
        columns=tuple(columns),
        indexes=(),
        primary_key=tuple(column.name for column in keys),
        row_id=row_id,
        clustered=without,
        levels=tree.levels if tree else 3,
    )
    facts = tuple(_survey_index(connection, index, table) for index in indexes)
    table = _with_statistics(replace(table, indexes=facts), statistics)
    if seek_by is None or not sample.size:
        return table
    starts = _probe_starts(sample)
    source = connection.dialect.identifier_preparer.quote_identifier(name).replace(":", "\\:")
    return probe_indexes(connection, table, source, "rowid", starts, budget, notes)


def _probe_starts(sample: Sample) -> list[dict[str, Any]]:
    """Return sampled rows to begin at, spread: neighbours would probe one place of each index."""
    picked = range(0, sample.size, max(sample.size // 8, 1))
    return [{column: values[i] for column, values in sample.values.items()} for i in picked]


def _column(column: catalog.CatalogColumn, sample: Sample, rows: float) -> ColumnFacts:
    """Return what sampled rows tell of a column."""
    values, widths = sample.values[column.name], sample.widths[column.name]
    # An empty table has no sample, and shares of nothing are 0.
    size, common = max(sample.size, 1), tuple(common_values(values))
    distinct = expect_distinct(values, rows)
    return ColumnFacts(
        column.name,
        column.type,
        column.nullable,
        width=round(sum(widths) / size, 2),
        null_share=round(sum(value is None for value in values) / size, 4),
        distinct=None if distinct is None else round(distinct, 1),
        common=common,
        bounds=share_bounds(values, common),
        correlation=correlate(sample.places, values) if sample.places else None,
    )


def _count_rows(
    connection: Connection,
    name: str,
    seek_by: str | None,
    statistics: Mapping[str | None, list[int]],
    tree: catalog.TreeSample | None,
) -> tuple[float, str]:
    if seek_by is not None:
        return round(count_by_windows(connection, name, seek_by)), "sampled windows of row ids"
    if statistics:
        return float(max(numbers[0] for numbers in statistics.values())), "stored statistics"
    if tree is not None:
        return round(tree.cells), "sampled b-tree pages"
    raise DatabaseError(
        f"the rows of {name!r} cannot be estimated: the table is WITHOUT ROWID, was never "
        "analysed, and dbstat is missing",
        "Run ANALYZE on it once, or write its facts by hand",
        "rows-unknown",
    )


def _survey_index(
    connection: Connection, index: catalog.CatalogIndex, table: TableFacts
) -> IndexFacts:
    tree = catalog.sample_tree(connection, index.name)
    widths = [table.column(c.name).width or 8.0 for c in index.columns if c.name]
    # A cell has a pointer and a header of its own.
    size = tree.cell_bytes + 4.0 if tree else sum(widths) + 8.0
    leaves = table.rows / tree.cells_per_leaf if tree and tree.cells_per_leaf else None
    return IndexFacts(
        name=index.name,
        columns=index.columns,
        unique=index.unique,
        partial=index.partial,
        entry_bytes=round(size, 1),
        leaf_blocks=None if leaves is None else round(leaves, 1),
        levels=tree.levels if tree else None,
    )


def _with_statistics(table: TableFacts, statistics: Mapping[str | None, list[int]]) -> TableFacts:
    """Return the table with distinct counts of leading index columns from stored statistics."""
    distinct: dict[str, float] = {}
    for index in table.indexes:
        # The second number is the mean of rows that share the first column's value.
        numbers = statistics.get(index.name, [])
        leading = index.columns[0].name if index.columns else None
        if len(numbers) > 1 and leading is not None and not index.partial:
            distinct[leading] = table.rows / max(numbers[1], 1)
        # Each value once, whatever old statistics say.
        if index.unique and len(index.columns) == 1 and leading is not None:
            distinct[leading] = table.rows
    for name in table.primary_key if len(table.primary_key) == 1 else ():
        distinct[name] = table.rows
    columns = tuple(replace(c, distinct=distinct.get(c.name, c.distinct)) for c in table.columns)
    return replace(table, columns=columns)


_VIEW_ROWS = 100_000


def _survey_view(connection: Connection, name: str, notes: list[str]) -> TableFacts:
    """Return what is known of a view: its columns, and its rows as far as they are counted."""
    notes.append(f"{name}: what lies behind it is not known here; its pages are counted alone")
    declared = catalog.read_columns(connection, name)
    source = quote_name(connection, name)
    # A view may compute anything, so it is not counted to its end.
    counted = text(f"SELECT count(*) FROM (SELECT 1 FROM {source} LIMIT {_VIEW_ROWS})")
    rows = float(connection.execute(counted).scalar() or 0)
    columns = tuple(
        ColumnFacts(column.name, column.type, True, usual_width(column.type)) for column in declared
    )
    bytes_ = 4.0 + sum(column.width or 8.0 for column in columns)
    return TableFacts(
        name=name,
        rows=rows,
        rows_from=f"counted up to {_VIEW_ROWS:,}",
        row_bytes=bytes_,
        blocks=max(rows * bytes_ / 4096, 1.0),
        columns=columns,
        indexes=(),
        primary_key=(),
        is_view=True,
    )
