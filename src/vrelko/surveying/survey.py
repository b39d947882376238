"""survey: facts on the tables of a database, read-only and without scanning them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from sqlalchemy import Connection, Engine, Table

from vrelko.core.facts import ColumnFacts, Facts, IndexFacts, ServerFacts, TableFacts
from vrelko.core.outline import Outline
from vrelko.engines import sqlite_catalog as catalog
from vrelko.engines.registry import check_engine, database_errors
from vrelko.errors import DatabaseError, nearest
from vrelko.surveying.sampling import (
    COUNT_CAP,
    common_values,
    count_by_windows,
    count_capped,
    distinct_by_index,
    expect_distinct,
    sample_rows,
)


def survey(engine: Engine, what: Any = None) -> Facts:
    """Return facts on a table (by name or Table), on a listing's tables, or on every table.

    Reads the catalog, statistics that ANALYZE once stored, the first b-tree pages from dbstat where
    compiled in, and a bounded number of sampled rows. Never runs ANALYZE, writes nothing, scans
    nothing. For a listing, the typical values of its parameters are counted too, up to 10,000
    index entries each. Raises DatabaseError.
    """
    check_engine(engine, "surveyed")
    with database_errors("survey"), engine.connect() as connection:
        known = catalog.list_tables(connection)
        names, outlines = _names_of(what, known)
        for name in names:
            if name not in known:
                raise DatabaseError(
                    f"there is no table {name!r} in this database",
                    nearest(name, known, otherwise="It has no table at all"),
                    "table-missing",
                )
        server = ServerFacts(engine=engine.dialect.name, **catalog.read_server(connection))
        notes: list[str] = []
        tables = [_survey_table(connection, name, notes) for name in names]
        for outline in outlines:
            tables = [_count_values(connection, table, outline) for table in tables]
    return Facts(server, tuple(tables), tuple(notes))


def _names_of(what: Any, known: Sequence[str]) -> tuple[list[str], list[Outline]]:
    """Return the tables to look at, and the outlines whose parameter values to count."""
    if what is None:
        return list(known), []
    if isinstance(what, str):
        return [what], []
    if isinstance(what, Table):
        return [what.name], []
    if hasattr(what, "outline"):
        outline = what.outline("sqlite", what.workload.params)
        return list(dict.fromkeys(outline.tables)), [outline]
    names: list[str] = []
    outlines: list[Outline] = []
    for one in what:
        more, seen = _names_of(one, known)
        names += [name for name in more if name not in names]
        outlines += seen
    return names, outlines


def _survey_table(connection: Connection, name: str, notes: list[str]) -> TableFacts:
    declared = catalog.read_columns(connection, name)
    without = catalog.is_without_rowid(connection, name)
    keys = sorted((c for c in declared if c.key_place), key=lambda c: c.key_place)
    alone = len(keys) == 1 and keys[0].type == "INTEGER" and not without
    row_id = keys[0].name if alone else None
    seek_by = row_id or (None if without else "rowid")
    statistics = catalog.read_statistics(connection, name)
    tree = catalog.sample_tree(connection, name)
    if tree is None:
        notes.append(f"{name}: dbstat is not compiled in; widths and blocks come from samples")
    rows, rows_from = _count_rows(connection, name, seek_by, statistics, tree)
    if seek_by is None:
        notes.append(f"{name}: it has no row id to sample by; columns come from its first rows")
    sample = sample_rows(connection, name, seek_by, [column.name for column in declared])
    columns = []
    indexes = catalog.read_indexes(connection, name)
    led = {index.columns[0].name for index in indexes if index.columns and not index.partial}
    for column in declared:
        values, widths = sample.values[column.name], sample.widths[column.name]
        size = max(sample.size, 1)
        distinct = expect_distinct(values, rows)
        if column.name in led:
            by_index = distinct_by_index(connection, name, column.name, values, rows)
            distinct = by_index or distinct
        columns.append(
            ColumnFacts(
                column.name,
                column.type,
                column.nullable,
                width=round(sum(widths) / size, 2),
                null_share=round(sum(value is None for value in values) / size, 4),
                distinct=None if distinct is None else round(distinct, 1),
                common=tuple(common_values(values)),
            )
        )
    row_bytes = tree.cell_bytes if tree else sum(c.width or 0 for c in columns) + 4.0
    block = int(connection.exec_driver_sql("PRAGMA page_size").scalar() or 4096)
    blocks = rows / tree.cells_a_leaf if tree and tree.cells_a_leaf else rows * row_bytes / block
    table = TableFacts(
        name, rows, rows_from, round(row_bytes, 1), max(round(blocks, 1), 1.0), tuple(columns), (),
        tuple(column.name for column in keys), row_id, without, tree.levels if tree else 3,
    )  # fmt: skip
    facts = tuple(_survey_index(connection, index, table) for index in indexes)
    return _with_statistics(replace(table, indexes=facts), statistics)


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
        f"the rows of {name!r} cannot be told: WITHOUT ROWID, no statistics, no dbstat",
        "Run ANALYZE on it once, or write its facts by hand",
        "rows-unknown",
    )


def _survey_index(
    connection: Connection, index: catalog.CatalogIndex, table: TableFacts
) -> IndexFacts:
    tree = catalog.sample_tree(connection, index.name)
    widths = [table.column(c.name).width or 8.0 for c in index.columns if c.name]
    size = tree.cell_bytes + 4.0 if tree else sum(widths) + 8.0
    leaves = table.rows / tree.cells_a_leaf if tree and tree.cells_a_leaf else None
    return IndexFacts(
        index.name, index.columns, index.unique, index.partial, round(size, 1),
        None if leaves is None else round(leaves, 1), tree.levels if tree else None,
    )  # fmt: skip


def _with_statistics(table: TableFacts, statistics: Mapping[str | None, list[int]]) -> TableFacts:
    """Return the table with distinct counts of leading index columns from stored statistics."""
    distinct: dict[str, float] = {}
    for index in table.indexes:
        numbers = statistics.get(index.name, [])
        leading = index.columns[0].name if index.columns else None
        if len(numbers) > 1 and leading is not None and not index.partial:
            distinct[leading] = table.rows / max(numbers[1], 1)
        if index.unique and len(index.columns) == 1 and leading is not None:
            distinct[leading] = table.rows
    for name in table.primary_key if len(table.primary_key) == 1 else ():
        distinct[name] = table.rows
    columns = tuple(replace(c, distinct=distinct.get(c.name, c.distinct)) for c in table.columns)
    return replace(table, columns=columns)


def _count_values(connection: Connection, table: TableFacts, outline: Outline) -> TableFacts:
    """Return the table with the shares of the outline's parameter values counted by index."""
    led = {index.columns[0].name for index in table.indexes if index.columns and not index.partial}
    columns = {column.name: column for column in table.columns}
    for condition in outline.conditions:
        value = outline.params.get(condition.parameter or "", condition.value)
        mine = condition.table == table.name and condition.kind == "equal"
        if not mine or value is None or condition.column not in led or not table.rows:
            continue
        counted = count_capped(connection, table.name, condition.column, value)
        if counted < COUNT_CAP:
            column = columns[condition.column]
            rest = tuple(item for item in column.common if item[0] != str(value))
            common = (*rest, (str(value), counted / table.rows))
            columns[column.name] = replace(column, common=common)
    return replace(table, columns=tuple(columns.values()))
